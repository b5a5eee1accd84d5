import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { Placeholder, Feed, Pattern } from "../../../api/types";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, SecretField, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { QueryBoundary } from "../../../ui/QueryBoundary";
import { patternsQuery, usePatternFeeds } from "../queries";

/** Fills in the placeholders of an address pattern, for one camera or for a whole recorder. */
export function PatternFill({ onDone }: { onDone: (feeds: readonly Feed[]) => void }): ReactNode {
  const patterns = useQuery(patternsQuery());
  const [name, setName] = useState("");
  return (
    <QueryBoundary query={patterns}>
      {(data) => {
        const pattern = data.find((each) => each.name === name) ?? data[0];
        if (pattern === undefined) {
          return <p className="text-quiet">No patterns yet.</p>;
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
    </QueryBoundary>
  );
}

/** The placeholders that a person fills: channels may be many, and a choice of main and sub makes both addresses. */
function placeholdersOf(pattern: Pattern): Placeholder[] {
  return (pattern.placeholders ?? []).filter(
    (placeholder) =>
      placeholder.name !== "channel" && !(placeholder.name === "stream" && placeholder.kind === "choice"),
  );
}

function Fill({ pattern, onDone }: { pattern: Pattern; onDone: (feeds: readonly Feed[]) => void }): ReactNode {
  const add = usePatternFeeds(pattern.name);
  const [set, setSet] = useState<Readonly<Record<string, string>>>({});
  const [typed, setTyped] = useState({ name: "", channels: "", user: "", password: "", site: "" });
  const hasChannels = (pattern.placeholders ?? []).some((placeholder) => placeholder.name === "channel");
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
    <Form onSubmit={submit} error={add.error} disabled={add.isPending} action="Save feeds">
      <p className="rounded-md bg-paper px-3 py-2 text-[13px] break-all">{pattern.template}</p>
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Name"
          required
          placeholder="Yard"
          value={typed.name}
          onChange={(event) => setTyped({ ...typed, name: event.target.value })}
          help={hasChannels ? "With several channels, the channel number is appended." : undefined}
          error={fieldError(add.error, "name")}
        />
        {hasChannels && (
          <Field
            label="Channels"
            placeholder="1, or 1-8, or 1,3,5"
            value={typed.channels}
            onChange={(event) => setTyped({ ...typed, channels: event.target.value })}
            error={fieldError(add.error, "channels")}
          />
        )}
        {placeholdersOf(pattern).map((placeholder) => (
          <PlaceholderField
            key={placeholder.name}
            placeholder={placeholder}
            value={set[placeholder.name] ?? ""}
            onChange={(value) => setSet({ ...set, [placeholder.name]: value })}
          />
        ))}
        <Field
          label="User name"
          value={typed.user}
          onChange={(event) => setTyped({ ...typed, user: event.target.value })}
        />
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

function PlaceholderField({
  placeholder,
  value,
  onChange,
}: {
  placeholder: Placeholder;
  value: string;
  onChange: (value: string) => void;
}): ReactNode {
  if (placeholder.kind === "choice") {
    return (
      <SelectField
        label={placeholder.name}
        value={value}
        onChange={(event) => onChange(event.target.value)}
        choices={[
          { value: "", label: "choose" },
          ...placeholder.choices.map((each) => ({ value: each.word, label: each.word })),
        ]}
      />
    );
  }
  const help = placeholder.kind === "number" ? `a number from ${placeholder.min} to ${placeholder.max}` : undefined;
  return (
    <Field
      label={placeholder.name}
      required
      spellCheck={false}
      value={value}
      help={help}
      onChange={(event) => onChange(event.target.value)}
    />
  );
}
