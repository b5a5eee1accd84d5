import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { NewDestination, Stored } from "../../../api/types";
import { fieldError } from "../../../ui/ErrorMessage";
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

/** Form for a destination. The service corrects pasted addresses and keys. */
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
  const fieldErrorOf = (field: string) => fieldError(add.error, field);
  return (
    <Form onSubmit={submit} error={add.error} disabled={add.isPending} action="Save destination">
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Name"
          required
          placeholder="Bramble TV Summit"
          value={typed.name}
          onChange={(event) => set({ name: event.target.value })}
          error={fieldErrorOf("name")}
        />
        <PlatformChoice value={typed.platform} onChange={(platform) => set({ platform })} />
      </div>
      <Field
        label="Server address"
        placeholder="rtmp://ingest.example.net/live"
        spellCheck={false}
        value={typed.server}
        onChange={(event) => set({ server: event.target.value })}
        help="As the platform shows it. If it contains the key, leave the key empty: the key is split off and stored encrypted."
        error={fieldErrorOf("server")}
      />
      <SecretField
        label={isSrt ? "Stream ID or key" : "Stream key"}
        value={typed.key}
        onChange={(event) => set({ key: event.target.value })}
        help="Paste it as the platform shows it. Blanks and line ends around it are removed."
        error={fieldErrorOf("key")}
      />
      {isSrt && (
        <div className="grid gap-4 sm:grid-cols-2">
          <SecretField
            label="Passphrase"
            value={typed.passphrase}
            onChange={(event) => set({ passphrase: event.target.value })}
            help="10 to 79 characters; empty for no encryption."
            error={fieldErrorOf("passphrase")}
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
        <summary className="cursor-pointer font-semibold">Backup server, key type, watch page, uplinks</summary>
        <div className="mt-3 grid gap-4">
          <Field
            label="Backup server"
            spellCheck={false}
            value={typed.backup}
            onChange={(event) => set({ backup: event.target.value })}
            error={fieldErrorOf("backup_server")}
          />
          <div className="grid gap-4 sm:grid-cols-2">
            <SelectField
              label="Key type"
              value={typed.kind}
              onChange={(event) => set({ kind: event.target.value })}
              choices={[
                { value: "reusable", label: "any number of broadcasts" },
                { value: "one-broadcast", label: "one broadcast" },
              ]}
            />
            <Field
              label="Key expires"
              type="date"
              value={typed.expires}
              onChange={(event) => set({ expires: event.target.value })}
              error={fieldErrorOf("key_expires")}
            />
          </div>
          <Field
            label="Watch page"
            type="url"
            placeholder="https://bramble.example.net/summit"
            value={typed.watch}
            onChange={(event) => set({ watch: event.target.value })}
            error={fieldErrorOf("watch_page")}
          />
          <UplinkChoice chosen={uplinks} onChange={setUplinks} />
          <TextField
            label="Certificate of a private authority (PEM)"
            spellCheck={false}
            value={typed.authority}
            onChange={(event) => set({ authority: event.target.value })}
            help="Only if the platform’s certificate is not signed by a public authority."
            error={fieldErrorOf("authority")}
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

/** Selection of a rule sheet. */
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
