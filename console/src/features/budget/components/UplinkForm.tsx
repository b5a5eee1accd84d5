import { useState, type ReactNode } from "react";

import type { Uplink } from "../../../api/types";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { Toggle } from "../../../ui/Toggle";
import { useSaveUplink } from "../queries";

/** Form of a new or existing uplink. */
export function UplinkForm({ uplink, onDone }: { uplink: Uplink | null; onDone: () => void }): ReactNode {
  // The revision at the time when the form was opened.
  const [revision] = useState(uplink?.revision);
  const save = useSaveUplink(uplink?.name ?? null, revision);
  const [name, setName] = useState(uplink?.name ?? "");
  const [site, setSite] = useState(uplink?.site ?? "");
  const [rate, setRate] = useState(uplink === null ? "" : `${uplink.up_kbps}kbit/s`);
  // Not rounded: what is not changed must stay as it is.
  const [allowance, setAllowance] = useState(
    uplink?.allowance_bytes == null ? "" : `${uplink.allowance_bytes / 1e9}GB`,
  );
  const [headroom, setHeadroom] = useState(String(uplink?.headroom_percent ?? 25));
  const [source, setSource] = useState(uplink?.source ?? "");
  const [device, setDevice] = useState(uplink?.interface ?? "");
  const [backup, setBackup] = useState(uplink?.backup ?? false);
  const submit = () => {
    const binding =
      uplink === null ? { ...some("source", source), ...some("interface", device) } : { source, interface: device };
    save.mutate(
      {
        name,
        rate,
        backup,
        headroom_percent: Number(headroom),
        ...(uplink === null ? { ...some("site", site), ...some("allowance", allowance) } : { site, allowance }),
        ...binding,
      },
      { onSuccess: onDone },
    );
  };
  return (
    <Form
      onSubmit={submit}
      error={save.error}
      disabled={save.isPending}
      action={uplink === null ? "Add uplink" : "Save"}
    >
      <Field
        label="Name"
        required
        value={name}
        onChange={(event) => setName(event.target.value)}
        error={fieldError(save.error, "name")}
      />
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Upload rate"
          required
          placeholder="20Mbit/s"
          value={rate}
          onChange={(event) => setRate(event.target.value)}
          error={fieldError(save.error, "rate")}
        />
        <Field
          label="Reserve, in %"
          type="number"
          min={0}
          max={90}
          value={headroom}
          onChange={(event) => setHeadroom(event.target.value)}
        />
        <Field
          label="A month may have"
          placeholder="500GB"
          value={allowance}
          onChange={(event) => setAllowance(event.target.value)}
          help="Leave empty if there is no limit."
          error={fieldError(save.error, "allowance")}
        />
        <Field
          label="Site"
          value={site}
          onChange={(event) => setSite(event.target.value)}
          help="Leave empty for the machine of the service."
        />
        <Field
          label="Source address"
          placeholder="192.0.2.10"
          value={source}
          onChange={(event) => setSource(event.target.value)}
          help="Binds the pushes of destinations that use this uplink."
          error={fieldError(save.error, "source")}
        />
        <Field
          label="Or network interface"
          value={device}
          onChange={(event) => setDevice(event.target.value)}
          error={fieldError(save.error, "interface")}
        />
      </div>
      <Toggle label="Backup" help="Used only while the main uplink is down." checked={backup} onChange={setBackup} />
    </Form>
  );
}

function some<Name extends string>(name: Name, value: string): Partial<Record<Name, string>> {
  return (value === "" ? {} : { [name]: value }) as Partial<Record<Name, string>>;
}
