import { useState, type ReactNode } from "react";

import type { Relay, RelayChange } from "../../../api/types";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, SelectField, TextField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { useEditRelay } from "../queries";
import { HoldingPicture } from "./HoldingPicture";

type Adapt = NonNullable<RelayChange["adapt"]>;

const ADAPTATIONS: readonly { value: Adapt; label: string }[] = [
  { value: "none", label: "Nothing" },
  { value: "audio", label: "Audio" },
  { value: "all", label: "Audio and video" },
];

function asAdapt(value: string): Adapt {
  return ADAPTATIONS.find((each) => each.value === value)?.value ?? "audio";
}

type Props = { relay: Relay; onDone: (relay: Relay) => void };

/** Name, holding picture, on-air windows and quiet minute. */
export function RelaySettings({ relay, onDone }: Props): ReactNode {
  const [revision] = useState(relay.revision);
  const edit = useEditRelay(relay.name, revision);
  const [name, setName] = useState(relay.name);
  const [hold, setHold] = useState(String(relay.hold_after_s ?? 3));
  const [windows, setWindows] = useState((relay.on_air?.windows ?? []).join("\n"));
  const [zone, setZone] = useState(relay.on_air?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone);
  const [quiet, setQuiet] = useState(relay.quiet_minute ?? "");
  const [adapt, setAdapt] = useState(relay.adapt ?? "audio");
  const [limits, setLimits] = useState<Record<string, string>>(relay.limits ?? {});
  const submit = () => {
    const lines = windows
      .split("\n")
      .map((line) => line.trim())
      .filter((line) => line !== "");
    const change: RelayChange = {
      name,
      hold_after_s: Number(hold),
      on_air: lines,
      quiet_minute: quiet,
      adapt,
      limits: Object.fromEntries(Object.entries(limits).filter(([, limit]) => limit.trim() !== "")),
      // Times mean something in a zone only; without any the zone is left as it is.
      ...(lines.length > 0 || quiet !== "" ? { zone } : {}),
    };
    edit.mutate(change, { onSuccess: onDone });
  };
  const fieldErrorOf = (field: string) => fieldError(edit.error, field);
  return (
    <Form onSubmit={submit} error={edit.error} disabled={edit.isPending} action="Save">
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Name"
          required
          value={name}
          onChange={(event) => setName(event.target.value)}
          error={fieldErrorOf("name")}
        />
        <Field
          label="Holding picture after, in s"
          type="number"
          min={0}
          max={600}
          value={hold}
          onChange={(event) => setHold(event.target.value)}
          help="Delay after which the holding picture is shown; 0 disables it."
          error={fieldErrorOf("hold_after_s")}
        />
      </div>
      <TextField
        label="On air"
        value={windows}
        onChange={(event) => setWindows(event.target.value)}
        placeholder={"mon-fri 08:00-18:00\nsat 09:30-13:00\n2026-12-24 14:00-16:00"}
        help="One window per line; empty for around the clock. Outside the windows the broadcasts end orderly."
        error={fieldErrorOf("on_air")}
      />
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Time zone"
          value={zone}
          onChange={(event) => setZone(event.target.value)}
          help="Name in the IANA time zone database."
          error={fieldErrorOf("zone")}
        />
        <Field
          label="Quiet minute"
          placeholder="04:00"
          value={quiet}
          onChange={(event) => setQuiet(event.target.value)}
          help="Minute at which broadcasts that reach the platform’s maximum duration are restarted."
          error={fieldErrorOf("quiet_minute")}
        />
      </div>
      <SelectField
        label="Adapt for platforms"
        value={adapt}
        onChange={(event) => setAdapt(asAdapt(event.target.value))}
        choices={ADAPTATIONS}
        help="What may be encoded again for a platform that does not accept the feed as it is. Audio takes a few percent of a processor core, video much more: the preflight estimates it."
      />
      {adapt === "all" && (
        <div className="grid gap-4 sm:grid-cols-2">
          {relay.pushes.map(({ destination }) => (
            <Field
              key={destination}
              label={`Limit for ${destination}`}
              placeholder="720p,25fps,2500kbit/s"
              value={limits[destination] ?? ""}
              onChange={(event) => setLimits({ ...limits, [destination]: event.target.value })}
              error={fieldErrorOf("limits")?.includes(destination) === true ? fieldErrorOf("limits") : null}
            />
          ))}
        </div>
      )}
      <HoldingPicture relay={relay} />
    </Form>
  );
}
