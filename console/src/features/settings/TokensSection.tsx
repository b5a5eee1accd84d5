import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent, type ReactNode } from "react";

import type { Role, Token } from "../../api/types";
import { day, dayAndTime } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { ConfirmDialog } from "../../ui/ConfirmDialog";
import { Copy } from "../../ui/Copy";
import { Fault, faultOf } from "../../ui/Fault";
import { Field, SelectField } from "../../ui/Field";
import { Loaded } from "../../ui/Loaded";
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
        <Loaded query={tokens}>
          {(data) =>
            data.length === 0 ? (
              <p className="text-quiet">None yet. Programs and wall displays send one as a bearer.</p>
            ) : (
              <ul className="grid gap-2.5">
                {data.map((token) => (
                  <TokenLine key={token.name} token={token} />
                ))}
              </ul>
            )
          }
        </Loaded>
      </Card>
      <Card title="Make a token" label="Make a token">
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
        confirm="Remove the token"
        onConfirm={() => remove.mutate(token.name)}
      >
        Whatever sends it is refused from its next request on.
      </ConfirmDialog>
      {remove.error !== null && <Fault error={remove.error} />}
    </li>
  );
}

function TokenForm(): ReactNode {
  const add = useAddToken();
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const [days, setDays] = useState("90");
  const submit = (event: FormEvent) => {
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
        error={faultOf(add.error, "name")}
      />
      <RoleField value={role} onChange={setRole} />
      <SelectField label="Expires after" value={days} onChange={(event) => setDays(event.target.value)} choices={LIVES} />
      {add.error !== null && <Fault error={add.error} />}
      <Button kind="strong" type="submit" disabled={add.isPending}>
        Make it
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
