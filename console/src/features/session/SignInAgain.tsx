import { useState, type SyntheticEvent, type ReactNode } from "react";

import { Button } from "../../ui/Button";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { Field } from "../../ui/Field";
import { useEnter } from "./queries";

/** Sign-in on the current page, which keeps its input. */
export function SignInAgain({ onDone }: { onDone: () => void }): ReactNode {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const enter = useEnter(null);
  const submit = (event: SyntheticEvent) => {
    event.preventDefault();
    enter.mutate({ name, password }, { onSuccess: onDone, onError: () => setPassword("") });
  };
  return (
    <form onSubmit={submit} aria-label="Sign in again" className="mt-2 flex flex-wrap items-end gap-3">
      <Field
        label="Name"
        autoComplete="username"
        required
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <Field
        label="Password"
        type="password"
        autoComplete="current-password"
        required
        value={password}
        onChange={(event) => setPassword(event.target.value)}
      />
      <Button kind="strong" type="submit" disabled={enter.isPending}>
        Sign in
      </Button>
      {enter.error !== null && <ErrorMessage error={enter.error} />}
    </form>
  );
}
