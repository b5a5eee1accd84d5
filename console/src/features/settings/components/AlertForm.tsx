import { useState, type ReactNode } from "react";

import type { Alert, Contact } from "../../../api/types";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { Toggle } from "../../../ui/Toggle";
import { useSaveAlert } from "../queries";
import { KINDS, readTrigger, writeTrigger, type Blanks, type TriggerKind } from "../trigger";

const LABELS: Record<keyof Blanks, { label: string; placeholder: string }> = {
  rate: { label: "Rate", placeholder: "500kbit/s" },
  time: { label: "Duration", placeholder: "60s, 10m, 2h" },
  days: { label: "Days", placeholder: "7" },
  share: { label: "Per cent", placeholder: "80" },
  times: { label: "Times", placeholder: "5" },
};

type Props = { alert: Alert | null; contacts: readonly Contact[]; onDone: () => void };

/** Form for an alert: trigger, subject and contacts. */
export function AlertForm({ alert, contacts, onDone }: Props): ReactNode {
  // The revision at the time when the form was opened.
  const [revision] = useState(alert?.revision);
  const save = useSaveAlert(alert?.name ?? null, revision);
  const [name, setName] = useState(alert?.name ?? "");
  const [trigger, setTrigger] = useState(readTrigger(alert?.when ?? "down 60s"));
  const [about, setAbout] = useState(alert?.about ?? "");
  const [to, setTo] = useState<readonly string[]>(alert?.to ?? []);
  const [repeat, setRepeat] = useState(String((alert?.repeat_s ?? 3600) / 60));
  const kind = KINDS.find((each) => each.kind === trigger.kind);
  const submit = () => {
    save.mutate(
      {
        name,
        when: writeTrigger(trigger.kind, trigger.blanks),
        to: [...to],
        repeat_s: Math.round(Number(repeat) * 60),
        ...(alert === null && about === "" ? {} : { about }),
      },
      { onSuccess: onDone },
    );
  };
  return (
    <Form onSubmit={submit} error={save.error} disabled={save.isPending} action={alert === null ? "Add alert" : "Save"}>
      <Field
        label="Name"
        required
        value={name}
        onChange={(event) => setName(event.target.value)}
        error={fieldError(save.error, "name")}
      />
      <SelectField
        label="When"
        value={trigger.kind}
        onChange={(event) => setTrigger({ ...trigger, kind: event.target.value as TriggerKind })}
        choices={KINDS.map((each) => ({ value: each.kind, label: each.label }))}
        error={fieldError(save.error, "when")}
      />
      <div className="grid grid-cols-2 gap-4">
        {kind?.blanks.map((blank) => (
          <Field
            key={blank}
            label={LABELS[blank].label}
            placeholder={LABELS[blank].placeholder}
            required
            value={trigger.blanks[blank]}
            onChange={(event) => setTrigger({ ...trigger, blanks: { ...trigger.blanks, [blank]: event.target.value } })}
          />
        ))}
      </div>
      <Field
        label="About"
        value={about}
        onChange={(event) => setAbout(event.target.value)}
        help="Name of a feed, relay, destination or uplink; empty for all."
        error={fieldError(save.error, "about")}
      />
      <fieldset className="grid gap-2">
        <legend className="mb-1 font-semibold">Contacts</legend>
        {contacts.length === 0 && <p className="text-[13px] text-quiet">Add a contact first.</p>}
        {contacts.map((contact) => (
          <Toggle
            key={contact.name}
            label={contact.name}
            checked={to.includes(contact.name)}
            onChange={(checked) => setTo(checked ? [...to, contact.name] : to.filter((each) => each !== contact.name))}
          />
        ))}
      </fieldset>
      <Field
        label="Repeat interval, in minutes"
        type="number"
        min={0}
        value={repeat}
        onChange={(event) => setRepeat(event.target.value)}
        help="0 notifies once. The end of an alert is notified in any case."
        error={fieldError(save.error, "repeat_s")}
      />
    </Form>
  );
}
