import { useQuery } from "@tanstack/react-query";
import { useState, type SyntheticEvent, type ReactNode } from "react";

import type { Role, Token } from "../../api/types";
import { day, dayAndTime } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { ConfirmDialog } from "../../ui/ConfirmDialog";
import { Copy } from "../../ui/Copy";
import { ErrorMessage, fieldError } from "../../ui/ErrorMessage";
import { Field, SelectField } from "../../ui/Field";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { RoleField } from "./RoleField";
import { tokensQuery, useAddToken, useRemoveToken } from "./queries";

const LIVES = [
  { value: "30", label: "30 days" },
  { value: "90", label: "90 days" },
  { value: "365", label: "a year" },
  { value: "0", label: "never" },
];

/** Tokens by which programs use the API. */
export function TokensSection(): ReactNode {
  const tokens = useQuery(tokensQuery());
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[minmax(0,1fr)_400px]">
      <Card title="Tokens" label="Tokens">
        <QueryBoundary query={tokens}>
          {(data) =>
            data.length === 0 ? (
              <p className="text-quiet">No tokens yet. Programs and wall displays send one as a bearer token.</p>
            ) : (
              <ul className="grid gap-2.5">
                {data.map((token) => (
                  <TokenLine key={token.name} token={token} />
                ))}
              </ul>
            )
          }
        </QueryBoundary>
      </Card>
      <Card title="New token" label="New token">
        <TokenForm />
      </Card>
    </div>
  );
}

function TokenLine({ token }: { token: Token }): ReactNode {
  const remove = useRemoveToken();
  const end = token.expires == null ? "never expires" : token.void ? "expired" : `expires on ${day(token.expires)}`;
  return (
    <li className="flex flex-wrap items-center justify-between gap-3 border-b border-hair pb-2.5 last:border-0 last:pb-0">
      <span className="min-w-0">
        <strong className="font-[650]">{token.name}</strong> as {token.role}
        <span className={`block text-[12.5px] ${token.void ? "text-block" : "text-quiet"}`}>
          {end}, made by {token.by} on {day(token.since)},{" "}
          {token.used == null ? "not used yet" : `last used ${dayAndTime(token.used)}`}
        </span>
      </span>
      <ConfirmDialog
        trigger={<Button disabled={remove.isPending}>Remove</Button>}
        title={`Remove the token ${token.name}?`}
        confirm="Remove token"
        onConfirm={() => remove.mutate(token.name)}
      >
        Requests with this token are refused at once.
      </ConfirmDialog>
      {remove.error !== null && <ErrorMessage error={remove.error} />}
    </li>
  );
}

function TokenForm(): ReactNode {
  const add = useAddToken();
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const [days, setDays] = useState("90");
  const submit = (event: SyntheticEvent) => {
    event.preventDefault();
    add.mutate({ name, role, days: Number(days) }, { onSuccess: () => setName("") });
  };
  return (
    <form onSubmit={submit} className="grid gap-4">
      <Field
        label="Name"
        required
        autoComplete="off"
        placeholder="Wall display"
        value={name}
        onChange={(event) => setName(event.target.value)}
        error={fieldError(add.error, "name")}
      />
      <RoleField value={role} onChange={setRole} />
      <SelectField
        label="Expires after"
        value={days}
        onChange={(event) => setDays(event.target.value)}
        choices={LIVES}
      />
      {add.error !== null && <ErrorMessage error={add.error} />}
      <Button kind="strong" type="submit" disabled={add.isPending}>
        Create token
      </Button>
      {add.data !== undefined && (
        <div className="grid gap-1.5">
          <Copy label={`Token ${add.data.token.name}`} text={add.data.secret} />
          <p className="text-[12.5px] text-quiet">It is not shown again.</p>
        </div>
      )}
    </form>
  );
}
