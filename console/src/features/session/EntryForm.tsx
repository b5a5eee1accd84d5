import { useState, type SyntheticEvent, type ReactNode } from "react";

import { Button } from "../../ui/Button";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { Field } from "../../ui/Field";
import { EntryCard } from "./EntryCard";
import { useEnter } from "./queries";

type Props = { title: string; lead: string; action: string; code: string | null; note?: ReactNode };

/** Form for name and password. */
export function EntryForm({ title, lead, action, code, note }: Props): ReactNode {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const enter = useEnter(code);
  const submit = (event: SyntheticEvent) => {
    event.preventDefault();
    // A refused password is removed from its field.
    enter.mutate({ name, password }, { onError: () => setPassword("") });
  };
  return (
    <EntryCard title={title} lead={lead}>
      <form onSubmit={submit} className="grid gap-4">
        {note}
        <Field
          label="Name"
          autoComplete="username"
          autoFocus
          required
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <Field
          label="Password"
          type="password"
          autoComplete={code === null ? "current-password" : "new-password"}
          required
          value={password}
          onChange={(event) => setPassword(event.target.value)}
          {...(code === null ? {} : { help: "At least ten characters, for instance three or four words." })}
        />
        {enter.error !== null && <ErrorMessage error={enter.error} />}
        <Button kind="strong" type="submit" disabled={enter.isPending}>
          {action}
        </Button>
      </form>
    </EntryCard>
  );
}
