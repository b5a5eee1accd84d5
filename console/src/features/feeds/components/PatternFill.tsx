import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Blank, Feed, Pattern } from "../../../api/types";
import { faultOf } from "../../../ui/Fault";
import { Field, SecretField, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { Loaded } from "../../../ui/Loaded";
import { patternsQuery, usePatternFeeds } from "../queries";

/** Fills in the blanks of an address pattern, for one camera or for a whole recorder. */
export function PatternFill({ onDone }: { onDone: (feeds: readonly Feed[]) => void }): ReactNode {
  const patterns = useQuery(patternsQuery());
  const [name, setName] = useState("");
  return (
    <Loaded query={patterns}>
      {(data) => {
        const pattern = data.find((each) => each.name === name) ?? data[0];
        if (pattern === undefined) {
          return <p className="text-quiet">There is no pattern yet.</p>;
        }
        return (
          <div className="grid gap-4">
            <SelectField
              label="Pattern"
              value={pattern.name}
              onChange={(event) => setName(event.target.value)}
              choices={data.map((each) => ({ value: each.name, label: each.name }))}
              help={pattern.note === "" ? undefined : pattern.note}
            />
            <Fill key={pattern.name} pattern={pattern} onDone={onDone} />
          </div>
        );
      }}
    </Loaded>
  );
}

/** The blanks that a person fills: channels may be many, and a choice of main and sub makes both addresses. */
function blanksOf(pattern: Pattern): Blank[] {
  return (pattern.blanks ?? []).filter(
    (blank) => blank.name !== "channel" && !(blank.name === "stream" && blank.kind === "choice"),
  );
}

function Fill({ pattern, onDone }: { pattern: Pattern; onDone: (feeds: readonly Feed[]) => void }): ReactNode {
  const add = usePatternFeeds(pattern.name);
  const [set, setSet] = useState<Readonly<Record<string, string>>>({});
  const [typed, setTyped] = useState({ name: "", channels: "", user: "", password: "", site: "" });
  const hasChannels = (pattern.blanks ?? []).some((blank) => blank.name === "channel");
  const submit = () => {
    const text = (name: string, value: string) => (value === "" ? {} : { [name]: value });
    const many = /[-,]/.test(typed.channels);
    add.mutate(
      {
        name: typed.name,
        set: { ...set, ...(hasChannels && !many ? { channel: typed.channels || "1" } : {}) },
        transport: "auto",
        ...(many ? { channels: typed.channels } : {}),
        ...text("user", typed.user),
        ...text("password", typed.password),
        ...text("site", typed.site),
      },
      { onSuccess: onDone, onError: () => setTyped({ ...typed, password: "" }) },
    );
  };
  return (
    <Form onSubmit={submit} error={add.error} disabled={add.isPending} action="Keep what it makes">
      <p className="rounded-md bg-paper px-3 py-2 text-[13px] break-all">{pattern.template}</p>
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Name"
          required
          placeholder="Yard"
          value={typed.name}
          onChange={(event) => setTyped({ ...typed, name: event.target.value })}
          help={hasChannels ? "Several channels get their numbers behind it." : undefined}
          error={faultOf(add.error, "name")}
        />
        {hasChannels && (
          <Field
            label="Channels"
            placeholder="1, or 1-8, or 1,3,5"
            value={typed.channels}
            onChange={(event) => setTyped({ ...typed, channels: event.target.value })}
            error={faultOf(add.error, "channels")}
          />
        )}
        {blanksOf(pattern).map((blank) => (
          <BlankField
            key={blank.name}
            blank={blank}
            value={set[blank.name] ?? ""}
            onChange={(value) => setSet({ ...set, [blank.name]: value })}
          />
        ))}
        <Field label="User name" value={typed.user} onChange={(event) => setTyped({ ...typed, user: event.target.value })} />
        <SecretField
          label="Password"
          value={typed.password}
          onChange={(event) => setTyped({ ...typed, password: event.target.value })}
        />
        <Field label="Site" value={typed.site} onChange={(event) => setTyped({ ...typed, site: event.target.value })} />
      </div>
    </Form>
  );
}

function BlankField({ blank, value, onChange }: { blank: Blank; value: string; onChange: (value: string) => void }): ReactNode {
  if (blank.kind === "choice") {
    return (
      <SelectField
        label={blank.name}
        value={value}
        onChange={(event) => onChange(event.target.value)}
        choices={[{ value: "", label: "choose" }, ...blank.choices.map((each) => ({ value: each.word, label: each.word }))]}
      />
    );
  }
  const help = blank.kind === "number" ? `a number from ${blank.least} to ${blank.most}` : undefined;
  return <Field label={blank.name} required spellCheck={false} value={value} help={help} onChange={(event) => onChange(event.target.value)} />;
}
