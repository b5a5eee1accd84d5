import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent, type ReactNode } from "react";

import { Button } from "../../ui/Button";
import { Fault } from "../../ui/Fault";
import { Field } from "../../ui/Field";
import { EntryCard } from "./EntryCard";
import { invitationQuery, useJoin } from "./queries";
import { ROLES } from "./role";

/** The page behind an invitation. Its code stands behind the `#`, so that it is never sent by itself. */
export function JoinPage(): ReactNode {
  const [code] = useState(() => window.location.hash.slice(1));
  const invitation = useQuery(invitationQuery(code));
  const join = useJoin(code);
  const [password, setPassword] = useState("");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    join.mutate(password, { onError: () => setPassword("") });
  };
  if (invitation.isPending) {
    return null;
  }
  if (invitation.data === undefined) {
    return (
      <EntryCard title="This link does not work" lead="Each invitation is good for one use, and for three days.">
        <Fault error={invitation.error} />
      </EntryCard>
    );
  }
  const { name, role, resets, by } = invitation.data;
  const may = ROLES.find((each) => each.value === role);
  return (
    <EntryCard
      title={`Welcome, ${name}`}
      lead={resets ? "Choose a new password. Sessions that go on elsewhere end." : `${by} invites you as ${role}: who ${may?.help ?? ""}.`}
    >
      <form onSubmit={submit} className="grid gap-4">
        <input type="text" autoComplete="username" value={name} readOnly hidden />
        <Field
          label="New password"
          type="password"
          autoComplete="new-password"
          autoFocus
          required
          value={password}
          onChange={(event) => setPassword(event.target.value)}
          help="Ten characters or more. Three or four words make a good one."
        />
        {join.error !== null && <Fault error={join.error} />}
        <Button kind="strong" type="submit" disabled={join.isPending}>
          {resets ? "Set it and sign in" : "Join and sign in"}
        </Button>
      </form>
    </EntryCard>
  );
}
