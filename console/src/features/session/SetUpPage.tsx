import { useState, type ReactNode } from "react";

import { EntryForm } from "./EntryForm";

/** Page of the set-up link. The code is in the fragment, which browsers do not send. */
export function SetUpPage(): ReactNode {
  const [code] = useState(() => window.location.hash.slice(1));
  return (
    <EntryForm
      title="Set up the first account"
      lead="Choose a name and a password. This link works once."
      action="Set up and sign in"
      code={code}
    />
  );
}
