import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent, type ReactNode } from "react";

import type { Session } from "../../api/types";
import { dayAndTime } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { ConfirmDialog } from "../../ui/ConfirmDialog";
import { Fault, faultOf } from "../../ui/Fault";
import { Field } from "../../ui/Field";
import { Loaded } from "../../ui/Loaded";
import { useToast } from "../../ui/Toast";
import { sessionQuery, useMay } from "../session";
import { agentWords } from "./agent";
import { sessionsQuery, useChangePassword, useEndSession } from "./queries";

/** One's own password, and where one is signed in; admins see everybody's sessions. */
export function AccountSection(): ReactNode {
  const sessions = useQuery(sessionsQuery());
  const keeps = useMay("admin");
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[360px_minmax(0,1fr)]">
      <Card title="Password" label="Password">
        <PasswordForm />
      </Card>
      <Card title={keeps ? "Sessions of everybody" : "Your sessions"} label="Sessions">
        <Loaded query={sessions}>
          {(data) => (
            <ul className="grid gap-2">
              {data.map((session) => (
                <SessionLine key={session.id} session={session} />
              ))}
            </ul>
          )}
        </Loaded>
      </Card>
    </div>
  );
}

function PasswordForm(): ReactNode {
  const change = useChangePassword();
  const session = useQuery(sessionQuery());
  const say = useToast();
  const [typed, setTyped] = useState({ current: "", new: "" });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate(typed, {
      onSuccess: () => say("Your password is changed. Your other sessions have ended."),
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
        help="Ten characters or more. Your other sessions end."
        error={faultOf(change.error, "password")}
      />
      {change.error !== null && <Fault error={change.error} />}
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
        <strong className="font-[650]">{session.person}</strong> {agentWords(session.agent)}
        {session.this && <span className="text-flow"> · this one</span>}
        <span className="block text-[12.5px] text-quiet">
          since {dayAndTime(session.since)}, last seen {dayAndTime(session.seen)}{session.address && `, from ${session.address}`}
        </span>
      </span>
      {!session.this && (
        <ConfirmDialog
          trigger={<Button disabled={end.isPending}>End</Button>}
          title={`End this session of ${session.person}?`}
          confirm="End the session"
          onConfirm={() => end.mutate(session.id)}
        >
          Its user is signed out within ten seconds. Broadcasts are not affected.
        </ConfirmDialog>
      )}
      {end.error !== null && <Fault error={end.error} />}
    </li>
  );
}
