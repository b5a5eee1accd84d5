import { useQuery } from "@tanstack/react-query";
import { useState, type SyntheticEvent, type ReactNode } from "react";

import type { Invitation, MadeInvitation, Person, Role } from "../../api/types";
import { day, dayAndTime } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { ConfirmDialog } from "../../ui/ConfirmDialog";
import { Copy } from "../../ui/Copy";
import { Dialog } from "../../ui/Dialog";
import { ErrorMessage, fieldError } from "../../ui/ErrorMessage";
import { Field } from "../../ui/Field";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { ROLES } from "../session";
import { RoleField } from "./RoleField";
import { invitationsQuery, peopleQuery, useInvite, useRemovePerson, useSetRole, useWithdraw } from "./queries";

/** People, their roles, and open invitations. */
export function PeopleSection(): ReactNode {
  const people = useQuery(peopleQuery());
  const invitations = useQuery(invitationsQuery());
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[minmax(0,1fr)_400px]">
      <Card title="People" label="People">
        <QueryBoundary query={people}>
          {(data) => (
            <ul className="grid gap-2.5">
              {data.map((person) => (
                <PersonLine key={person.name} person={person} />
              ))}
            </ul>
          )}
        </QueryBoundary>
      </Card>
      <div className="grid gap-4">
        <Card title="Invite a person" label="Invite">
          <InviteForm />
        </Card>
        {(invitations.data ?? []).length > 0 && (
          <Card title="Invited" label="Invited">
            <ul className="grid gap-2">
              {invitations.data?.map((invitation) => (
                <InvitedLine key={invitation.name} invitation={invitation} />
              ))}
            </ul>
          </Card>
        )}
        <ul className="grid gap-1 px-1 text-[13px] text-quiet">
          {ROLES.map((role) => (
            <li key={role.value}>
              <strong className="text-ink">{role.label}</strong> {role.help}
            </li>
          ))}
        </ul>
      </div>
    </div>
  );
}

function PersonLine({ person }: { person: Person }): ReactNode {
  const setRole = useSetRole();
  const remove = useRemovePerson();
  const invite = useInvite();
  const error = setRole.error ?? remove.error ?? invite.error;
  return (
    <li className="grid gap-2 border-b border-hair pb-2.5 last:border-0 last:pb-0">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <span className="min-w-0">
          <strong className="font-[650]">{person.name}</strong>
          <span className="block text-[12.5px] text-quiet">
            since {day(person.since)}, {person.seen == null ? "signed out" : `last seen ${dayAndTime(person.seen)}`}
          </span>
        </span>
        <span className="flex flex-wrap items-center gap-2">
          <select
            aria-label={`Role of ${person.name}`}
            value={person.role}
            disabled={setRole.isPending}
            onChange={(event) => setRole.mutate({ name: person.name, role: event.target.value as Role })}
            className="rounded-md border border-edge bg-card px-2.5 py-2"
          >
            {ROLES.map((role) => (
              <option key={role.value} value={role.value}>
                {role.label}
              </option>
            ))}
          </select>
          <Dialog
            trigger={<Button>New password</Button>}
            title={`A new password for ${person.name}`}
            lead="Creates a link that works once and expires after three days. The current password stays valid until then."
          >
            {() =>
              invite.data === undefined ? (
                <Button kind="strong" disabled={invite.isPending} onClick={() => invite.mutate({ name: person.name })}>
                  Create link
                </Button>
              ) : (
                <MadeLink made={invite.data} />
              )
            }
          </Dialog>
          <ConfirmDialog
            trigger={<Button>Remove</Button>}
            title={`Remove ${person.name}?`}
            confirm="Remove and sign out"
            onConfirm={() => remove.mutate(person.name)}
          >
            They are signed out everywhere and cannot sign in. Their audit entries are retained.
          </ConfirmDialog>
        </span>
      </div>
      {error !== null && <ErrorMessage error={error} />}
    </li>
  );
}

function InviteForm(): ReactNode {
  const invite = useInvite();
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const submit = (event: SyntheticEvent) => {
    event.preventDefault();
    invite.mutate({ name, role }, { onSuccess: () => setName("") });
  };
  return (
    <form onSubmit={submit} className="grid gap-4">
      <Field
        label="Name"
        required
        autoComplete="off"
        value={name}
        onChange={(event) => setName(event.target.value)}
        error={fieldError(invite.error, "name")}
      />
      <RoleField value={role} onChange={setRole} />
      {invite.error !== null && <ErrorMessage error={invite.error} />}
      <Button kind="strong" type="submit" disabled={invite.isPending}>
        Create link
      </Button>
      {invite.data !== undefined && <MadeLink made={invite.data} />}
    </form>
  );
}

/** The link is shown once; what stands behind the # is never sent by itself. */
function MadeLink({ made }: { made: MadeInvitation }): ReactNode {
  return (
    <div className="grid gap-1.5">
      <Copy label="Link" text={`${window.location.origin}/join#${made.code}`} />
      <p className="text-[12.5px] text-quiet">
        Send it to {made.invitation.name}. It works once, until {dayAndTime(made.invitation.expires)}, and is not shown
        again.
      </p>
    </div>
  );
}

function InvitedLine({ invitation }: { invitation: Invitation }): ReactNode {
  const withdraw = useWithdraw();
  return (
    <li className="flex flex-wrap items-center justify-between gap-2">
      <span className="min-w-0">
        <strong className="font-[650]">{invitation.name}</strong>{" "}
        {invitation.resets ? "password reset pending" : `as ${invitation.role}`}
        <span className="block text-[12.5px] text-quiet">
          by {invitation.by}, until {dayAndTime(invitation.expires)}
        </span>
      </span>
      <Button disabled={withdraw.isPending} onClick={() => withdraw.mutate(invitation.name)}>
        Revoke
      </Button>
    </li>
  );
}
