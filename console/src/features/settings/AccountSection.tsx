import { useQuery } from "@tanstack/react-query";
import { useState, type SyntheticEvent, type ReactNode } from "react";

import type { Session } from "../../api/types";
import { dayAndTime } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { ConfirmDialog } from "../../ui/ConfirmDialog";
import { ErrorMessage, fieldError } from "../../ui/ErrorMessage";
import { Field } from "../../ui/Field";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { useToast } from "../../ui/Toast";
import { sessionQuery, useMay } from "../session";
import { agentText } from "./agent";
import { sessionsQuery, useChangePassword, useEndSession } from "./queries";

/** Own password and sessions; admins see all sessions. */
export function AccountSection(): ReactNode {
  const sessions = useQuery(sessionsQuery());
  const keeps = useMay("admin");
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[360px_minmax(0,1fr)]">
      <Card title="Password" label="Password">
        <PasswordForm />
      </Card>
      <Card title={keeps ? "All sessions" : "Your sessions"} label="Sessions">
        <QueryBoundary query={sessions}>
          {(data) => (
            <ul className="grid gap-2">
              {data.map((session) => (
                <SessionLine key={session.id} session={session} />
              ))}
            </ul>
          )}
        </QueryBoundary>
      </Card>
    </div>
  );
}

function PasswordForm(): ReactNode {
  const change = useChangePassword();
  const session = useQuery(sessionQuery());
  const showToast = useToast();
  const [typed, setTyped] = useState({ current: "", new: "" });
  const submit = (event: SyntheticEvent) => {
    event.preventDefault();
    change.mutate(typed, {
      onSuccess: () => showToast("Your password is changed. Your other sessions have ended."),
      onSettled: () => setTyped({ current: "", new: "" }),
    });
  };
  return (
    <form onSubmit={submit} className="grid gap-4">
      <input type="text" autoComplete="username" value={session.data?.person ?? ""} readOnly hidden />
      <Field
        label="Current password"
        type="password"
        autoComplete="current-password"
        required
        value={typed.current}
        onChange={(event) => setTyped({ ...typed, current: event.target.value })}
      />
      <Field
        label="New password"
        type="password"
        autoComplete="new-password"
        required
        value={typed.new}
        onChange={(event) => setTyped({ ...typed, new: event.target.value })}
        help="At least ten characters. Your other sessions end."
        error={fieldError(change.error, "password")}
      />
      {change.error !== null && <ErrorMessage error={change.error} />}
      <Button kind="strong" type="submit" disabled={change.isPending}>
        Change the password
      </Button>
    </form>
  );
}

function SessionLine({ session }: { session: Session }): ReactNode {
  const end = useEndSession();
  return (
    <li className="flex flex-wrap items-center justify-between gap-3 border-b border-hair pb-2 last:border-0 last:pb-0">
      <span className="min-w-0">
        <strong className="font-[650]">{session.person}</strong> {agentText(session.agent)}
        {session.this && <span className="text-flow"> · this one</span>}
        <span className="block text-[12.5px] text-quiet">
          since {dayAndTime(session.since)}, last seen {dayAndTime(session.seen)}
          {session.address && `, from ${session.address}`}
        </span>
      </span>
      {!session.this && (
        <ConfirmDialog
          trigger={<Button disabled={end.isPending}>End</Button>}
          title={`End this session of ${session.person}?`}
          confirm="End the session"
          onConfirm={() => end.mutate(session.id)}
        >
          The person is signed out within ten seconds. Broadcasts are not affected.
        </ConfirmDialog>
      )}
      {end.error !== null && <ErrorMessage error={end.error} />}
    </li>
  );
}
