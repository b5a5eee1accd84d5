import type { ReactNode } from "react";

import { EntryForm } from "./EntryForm";

export function SignInPage({ serviceAway }: { serviceAway: boolean }): ReactNode {
  const note = serviceAway ? (
    <p role="alert" className="text-[13px] font-semibold text-block">
      The service does not answer. Reload the page once it runs again.
    </p>
  ) : undefined;
  return (
    <EntryForm
      title="Sign in"
      lead="to see and control the relays of this service."
      action="Sign in"
      code={null}
      note={note}
    />
  );
}
