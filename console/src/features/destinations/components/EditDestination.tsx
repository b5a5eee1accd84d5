import { useState, type ReactNode } from "react";

import type { Destination, Stored } from "../../../api/types";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, SelectField, TextField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { Toggle } from "../../../ui/Toggle";
import { useEditDestination } from "../queries";
import { PlatformChoice } from "./DestinationForm";
import { UplinkChoice } from "./UplinkChoice";

type Props = { destination: Destination; onStored: (stored: Stored) => void };

/** Changes everything about a destination but its secrets, which are rolled. */
export function EditDestination({ destination, onStored }: Props): ReactNode {
  const [revision] = useState(destination.revision);
  const edit = useEditDestination(destination.name, revision);
  const [typed, setTyped] = useState({
    name: destination.name,
    server: destination.server,
    backup: destination.backup_server ?? "",
    back: String(destination.return_after_s),
    platform: destination.platform ?? "",
    watch: destination.watch_page ?? "",
    length: destination.passphrase == null ? "" : String(destination.passphrase.key_length),
    authority: "",
    noPassphrase: false,
  });
  const [uplinks, setUplinks] = useState<readonly string[]>(destination.uplinks ?? []);
  const set = (change: Partial<typeof typed>) => setTyped({ ...typed, ...change });
  const fieldErrorOf = (field: string) => fieldError(edit.error, field);
  const submit = () => {
    edit.mutate(
      {
        name: typed.name,
        ...(typed.server === destination.server ? {} : { server: typed.server }),
        ...(typed.backup === (destination.backup_server ?? "") ? {} : { backup_server: typed.backup }),
        return_after_s: Number(typed.back),
        platform: typed.platform,
        watch_page: typed.watch,
        uplinks: [...uplinks],
        no_passphrase: typed.noPassphrase,
        ...(typed.length === "" || typed.noPassphrase ? {} : { key_length: Number(typed.length) }),
        ...(typed.authority === "" ? {} : { authority: typed.authority }),
      },
      { onSuccess: onStored },
    );
  };
  return (
    <Form onSubmit={submit} error={edit.error} disabled={edit.isPending} action="Save">
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Name"
          required
          value={typed.name}
          onChange={(event) => set({ name: event.target.value })}
          error={fieldErrorOf("name")}
        />
        <PlatformChoice value={typed.platform} onChange={(platform) => set({ platform })} />
      </div>
      <Field
        label="Server address"
        required
        spellCheck={false}
        value={typed.server}
        onChange={(event) => set({ server: event.target.value })}
        error={fieldErrorOf("server")}
      />
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Backup server"
          spellCheck={false}
          value={typed.backup}
          onChange={(event) => set({ backup: event.target.value })}
          error={fieldErrorOf("backup_server")}
        />
        <Field
          label="Failback delay, in s"
          type="number"
          min={0}
          value={typed.back}
          onChange={(event) => set({ back: event.target.value })}
          error={fieldErrorOf("return_after_s")}
        />
      </div>
      <Field
        label="Watch page"
        type="url"
        value={typed.watch}
        onChange={(event) => set({ watch: event.target.value })}
        error={fieldErrorOf("watch_page")}
      />
      <UplinkChoice chosen={uplinks} onChange={setUplinks} />
      {destination.passphrase != null && (
        <div className="grid items-end gap-4 sm:grid-cols-2">
          <SelectField
            label="Key length"
            value={typed.length}
            onChange={(event) => set({ length: event.target.value })}
            choices={["128", "192", "256"].map((bits) => ({ value: bits, label: `${bits} bits` }))}
          />
          <Toggle
            label="Disable encryption"
            checked={typed.noPassphrase}
            onChange={(noPassphrase) => set({ noPassphrase })}
          />
        </div>
      )}
      <TextField
        label="Certificate of a private authority (PEM)"
        spellCheck={false}
        placeholder={destination.has_authority ? "Stored. Paste another one to replace it." : ""}
        value={typed.authority}
        onChange={(event) => set({ authority: event.target.value })}
        error={fieldErrorOf("authority")}
      />
    </Form>
  );
}
