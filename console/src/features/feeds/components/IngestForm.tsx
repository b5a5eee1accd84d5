import { useState, type ReactNode } from "react";

import type { Feed, FeedChange, NewFeed } from "../../../api/types";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, SecretField, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { useAddFeed, useEditFeed } from "../queries";

const LENGTHS = ["128", "192", "256"].map((bits) => ({ value: bits, label: `${bits} bits` }));

/** A feed that encoders publish to: a new one, or a change of one. */
export function IngestForm({ feed, onDone }: { feed?: Feed; onDone: (feed: Feed) => void }): ReactNode {
  const add = useAddFeed();
  // The revision at the time when the form was opened.
  const [revision] = useState(feed?.revision);
  const edit = useEditFeed(feed?.name ?? "", revision);
  const [typed, setTyped] = useState({
    name: feed?.name ?? "",
    site: feed?.site ?? "",
    passphrase: "",
    bits: String(feed?.ingest?.key_length ?? 128),
  });
  const set = (change: Partial<typeof typed>) => setTyped({ ...typed, ...change });
  const error = feed === undefined ? add.error : edit.error;
  const submit = () => {
    const options = { onSuccess: onDone, onError: () => set({ passphrase: "" }) };
    if (feed === undefined) {
      add.mutate(added(typed), options);
    } else {
      edit.mutate(changed(typed, feed), options);
    }
  };
  return (
    <Form
      onSubmit={submit}
      error={error}
      disabled={add.isPending || edit.isPending}
      action={feed === undefined ? "Save encoder" : "Save"}
    >
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Name"
          required
          placeholder="Bandstand"
          value={typed.name}
          onChange={(event) => set({ name: event.target.value })}
          error={fieldError(error, "name")}
        />
        <Field
          label="Site"
          value={typed.site}
          onChange={(event) => set({ site: event.target.value })}
          error={fieldError(error, "site")}
        />
        <SecretField
          label="Passphrase for SRT"
          placeholder={
            feed?.ingest?.has_passphrase === true ? "kept; type another to replace it" : "optional, 10 to 79 characters"
          }
          value={typed.passphrase}
          onChange={(event) => set({ passphrase: event.target.value })}
          error={fieldError(error, "passphrase")}
        />
        <SelectField
          label="Length of the SRT key"
          value={typed.bits}
          onChange={(event) => set({ bits: event.target.value })}
          choices={LENGTHS}
        />
      </div>
    </Form>
  );
}

type Typed = { name: string; site: string; passphrase: string; bits: string };

function added({ name, site, passphrase, bits }: Typed): NewFeed {
  return {
    name,
    ingest: true,
    key_length: Number(bits),
    ...(site.trim() === "" ? {} : { site }),
    ...(passphrase === "" ? {} : { passphrase }),
  };
}

function changed({ name, site, passphrase, bits }: Typed, feed: Feed): FeedChange {
  return {
    ...(name === feed.name ? {} : { name }),
    ...(site === (feed.site ?? "") ? {} : { site }),
    ...(passphrase === "" ? {} : { passphrase }),
    ...(Number(bits) === feed.ingest?.key_length ? {} : { key_length: Number(bits) }),
  };
}
