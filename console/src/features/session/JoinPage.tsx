import { useQuery } from "@tanstack/react-query";
import { useState, type SyntheticEvent, type ReactNode } from "react";

import { Button } from "../../ui/Button";
import { ErrorMessage } from "../../ui/ErrorMessage";
import { Field } from "../../ui/Field";
import { EntryCard } from "./EntryCard";
import { invitationQuery, useJoin } from "./queries";
import { ROLES } from "./role";

/** Page of an invitation. The code is in the fragment, which browsers do not send. */
export function JoinPage(): ReactNode {
  const [code] = useState(() => window.location.hash.slice(1));
  const invitation = useQuery(invitationQuery(code));
  const join = useJoin(code);
  const [password, setPassword] = useState("");
  const submit = (event: SyntheticEvent) => {
    event.preventDefault();
    join.mutate(password, { onError: () => setPassword("") });
  };
  if (invitation.isPending) {
    return null;
  }
  if (invitation.data === undefined) {
    return (
      <EntryCard title="This link does not work" lead="Invitations work once and expire after three days.">
        <ErrorMessage error={invitation.error} />
      </EntryCard>
    );
  }
  const { name, role, resets, by } = invitation.data;
  const may = ROLES.find((each) => each.value === role);
  return (
    <EntryCard
      title={`Welcome, ${name}`}
      lead={
        resets
          ? "Choose a new password. Your other sessions end."
          : `${by} invites you as ${role}: who ${may?.help ?? ""}.`
      }
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
          help="At least ten characters, for instance three or four words."
        />
        {join.error !== null && <ErrorMessage error={join.error} />}
        <Button kind="strong" type="submit" disabled={join.isPending}>
          {resets ? "Save and sign in" : "Join and sign in"}
        </Button>
      </form>
    </EntryCard>
  );
}
