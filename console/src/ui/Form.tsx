import type { SyntheticEvent, ReactNode } from "react";

import { Button } from "./Button";
import { ErrorMessage } from "./ErrorMessage";

type Props = {
  /** Label of the button. */
  action: string;
  /** Disables submission while a request runs or input is missing. */
  disabled: boolean;
  /** Error of the last submission. */
  error: Error | null;
  onSubmit: () => void;
  children: ReactNode;
};

/** Form with its error and submit button. */
export function Form({ action, disabled, error, onSubmit, children }: Props): ReactNode {
  const submit = (event: SyntheticEvent) => {
    event.preventDefault();
    onSubmit();
  };
  return (
    // Values filled in by the browser belong to another account.
    <form onSubmit={submit} autoComplete="off" className="grid gap-4">
      {children}
      {error !== null && <ErrorMessage error={error} />}
      <Button kind="strong" type="submit" disabled={disabled} className="justify-self-end">
        {action}
      </Button>
    </form>
  );
}
