import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { NewDestination, Stored } from "../../../api/types";
import { faultOf } from "../../../ui/Fault";
import { Field, SecretField, SelectField, TextField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { platformsQuery } from "../../platforms";
import { useAddDestination } from "../queries";
import { UplinkChoice } from "./UplinkChoice";

const EMPTY = {
  name: "",
  server: "",
  backup: "",
  key: "",
  kind: "reusable",
  expires: "",
  platform: "",
  watch: "",
  passphrase: "",
  length: "",
  authority: "",
};

/** Takes a platform's details as they come: address and key together or apart, with stray blanks and line ends. */
export function DestinationForm({ onStored }: { onStored: (stored: Stored) => void }): ReactNode {
  const [typed, setTyped] = useState(EMPTY);
  const [uplinks, setUplinks] = useState<readonly string[]>([]);
  const add = useAddDestination();
  const set = (change: Partial<typeof EMPTY>) => setTyped({ ...typed, ...change });
  const isSrt = typed.server.trim().toLowerCase().startsWith("srt:");
  const submit = () => {
    add.mutate(request(typed, uplinks), {
      onSuccess: onStored,
      // A refused secret is removed from its field; the others stay.
      onError: () => set({ key: "", passphrase: "" }),
    });
  };
  const fault = (field: string) => faultOf(add.error, field);
  return (
    <Form onSubmit={submit} error={add.error} disabled={add.isPending} action="Keep the destination">
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Name"
          required
          placeholder="Bramble TV Summit"
          value={typed.name}
          onChange={(event) => set({ name: event.target.value })}
          error={fault("name")}
        />
        <PlatformChoice value={typed.platform} onChange={(platform) => set({ platform })} />
      </div>
      <Field
        label="Server address"
        placeholder="rtmp://ingest.example.net/live"
        spellCheck={false}
        value={typed.server}
        onChange={(event) => set({ server: event.target.value })}
        help="As the platform shows it. If it holds the key as well, leave the key empty: it is taken apart and sealed."
        error={fault("server")}
      />
      <SecretField
        label={isSrt ? "Stream ID or key" : "Stream key"}
        value={typed.key}
        onChange={(event) => set({ key: event.target.value })}
        help="Paste it as the platform shows it: stray blanks and line ends are corrected."
        error={fault("key")}
      />
      {isSrt && (
        <div className="grid gap-4 sm:grid-cols-2">
          <SecretField
            label="Passphrase"
            value={typed.passphrase}
            onChange={(event) => set({ passphrase: event.target.value })}
            help="10 to 79 characters; empty for no encryption."
            error={fault("passphrase")}
          />
          <SelectField
            label="Key length"
            value={typed.length}
            onChange={(event) => set({ length: event.target.value })}
            choices={[
              { value: "", label: "128 bits" },
              { value: "192", label: "192 bits" },
              { value: "256", label: "256 bits" },
            ]}
          />
        </div>
      )}
      <details>
        <summary className="cursor-pointer font-semibold">Backup server, kind of key, watch page, uplinks</summary>
        <div className="mt-3 grid gap-4">
          <Field
            label="Backup server"
            spellCheck={false}
            value={typed.backup}
            onChange={(event) => set({ backup: event.target.value })}
            error={fault("backup_server")}
          />
          <div className="grid gap-4 sm:grid-cols-2">
            <SelectField
              label="Kind of key"
              value={typed.kind}
              onChange={(event) => set({ kind: event.target.value })}
              choices={[
                { value: "reusable", label: "for any number of broadcasts" },
                { value: "one-broadcast", label: "for one broadcast" },
              ]}
            />
            <Field
              label="Key expires"
              type="date"
              value={typed.expires}
              onChange={(event) => set({ expires: event.target.value })}
              error={fault("key_expires")}
            />
          </div>
          <Field
            label="Watch page"
            type="url"
            placeholder="https://bramble.example.net/summit"
            value={typed.watch}
            onChange={(event) => set({ watch: event.target.value })}
            error={fault("watch_page")}
          />
          <UplinkChoice chosen={uplinks} onChange={setUplinks} />
          <TextField
            label="Certificate of a private authority (PEM)"
            spellCheck={false}
            value={typed.authority}
            onChange={(event) => set({ authority: event.target.value })}
            help="Only where the platform’s certificate is not signed by a public one."
            error={fault("authority")}
          />
        </div>
      </details>
    </Form>
  );
}

function request(typed: typeof EMPTY, uplinks: readonly string[]): NewDestination {
  const text = (name: keyof NewDestination, value: string) => (value.trim() === "" ? {} : { [name]: value });
  return {
    name: typed.name,
    uplinks: [...uplinks],
    ...text("server", typed.server),
    ...text("backup_server", typed.backup),
    ...text("key", typed.key),
    ...text("key_expires", typed.expires),
    ...text("platform", typed.platform),
    ...text("watch_page", typed.watch),
    ...text("passphrase", typed.passphrase),
    ...text("authority", typed.authority),
    ...(typed.kind === "one-broadcast" ? { key_kind: "one-broadcast" as const } : {}),
    ...(typed.length === "" ? {} : { key_length: Number(typed.length) }),
  };
}

/** Which rule sheet a destination is judged by. */
export function PlatformChoice({ value, onChange }: { value: string; onChange: (name: string) => void }): ReactNode {
  const platforms = useQuery(platformsQuery());
  const named = (platforms.data ?? []).map((platform) => ({ value: platform.name, label: platform.name }));
  return (
    <SelectField
      label="Platform"
      value={value}
      onChange={(event) => onChange(event.target.value)}
      choices={[{ value: "", label: "none: nothing is checked" }, ...named]}
    />
  );
}
