import type { FormEvent, ReactNode } from "react";

import { Button } from "./Button";
import { Fault } from "./Fault";

type Props = {
  /** Label of the button. */
  action: string;
  /** It cannot be sent now: it is under way, or something is missing. */
  disabled: boolean;
  /** Why it was refused, where it was. */
  error: Error | null;
  onSubmit: () => void;
  children: ReactNode;
};

/** Fields, what the service said of them, and the button that sends them. */
export function Form({ action, disabled, error, onSubmit, children }: Props): ReactNode {
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onSubmit();
  };
  return (
    // Values that a browser fills in belong to another account.
    <form onSubmit={submit} autoComplete="off" className="grid gap-4">
      {children}
      {error !== null && <Fault error={error} />}
      <Button kind="strong" type="submit" disabled={disabled} className="justify-self-end">
        {action}
      </Button>
    </form>
  );
}
