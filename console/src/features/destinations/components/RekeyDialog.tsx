import { useState, type ReactNode } from "react";

import type { Destination } from "../../../api/types";
import { listed } from "../../../lib/format";
import { Dialog } from "../../../ui/Dialog";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, SecretField, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { useToast } from "../../../ui/Toast";
import { useRekey } from "../queries";

type Props = { destination: Destination; trigger: ReactNode };

/** Gives a destination a new key: says what happens to which broadcast, and takes the key without showing it. */
export function RekeyDialog({ destination, trigger }: Props): ReactNode {
  const carried = destination.relays;
  const lead =
    carried.length === 0
      ? "No relay pushes to it at present."
      : `${listed(carried)} ${carried.length === 1 ? "pushes" : "push"} there. That push alone reconnects once, within a second or two; the others are not touched.`;
  return (
    <Dialog trigger={trigger} title={`Roll the key of ${destination.name}`} lead={lead}>
      {(close) => <RekeyForm destination={destination} onDone={close} />}
    </Dialog>
  );
}

function RekeyForm({ destination, onDone }: { destination: Destination; onDone: () => void }): ReactNode {
  const rekey = useRekey(destination.name);
  const showToast = useToast();
  const [key, setKey] = useState("");
  const [passphrase, setPassphrase] = useState("");
  const [kind, setKind] = useState<string>(destination.key?.kind ?? "reusable");
  const [expires, setExpires] = useState("");
  const isSrt = destination.protocol === "srt";
  const submit = () => {
    rekey.mutate(
      {
        ...(key === "" ? {} : { key, key_kind: kind === "one-broadcast" ? "one-broadcast" : "reusable" }),
        ...(expires === "" ? {} : { key_expires: expires }),
        ...(passphrase === "" ? {} : { passphrase }),
      },
      {
        onSuccess: (stored) => {
          showToast(
            `${destination.name} has a new ${key === "" ? "passphrase" : `key that ends in ${stored.destination.key?.ending ?? "…"}`}.`,
          );
          onDone();
        },
        onError: () => {
          setKey("");
          setPassphrase("");
        },
      },
    );
  };
  return (
    <Form
      onSubmit={submit}
      error={rekey.error}
      disabled={rekey.isPending || (key === "" && passphrase === "")}
      action="Roll key"
    >
      <SecretField
        label="New stream key"
        autoFocus
        value={key}
        onChange={(event) => setKey(event.target.value)}
        error={fieldError(rekey.error, "key")}
        help="As the platform shows it."
      />
      <div className="grid gap-4 sm:grid-cols-2">
        <SelectField
          label="Key type"
          value={kind}
          onChange={(event) => setKind(event.target.value)}
          choices={[
            { value: "reusable", label: "any number of broadcasts" },
            { value: "one-broadcast", label: "one broadcast" },
          ]}
        />
        <Field
          label="Expires"
          type="date"
          value={expires}
          onChange={(event) => setExpires(event.target.value)}
          error={fieldError(rekey.error, "key_expires")}
        />
      </div>
      {isSrt && (
        <SecretField
          label="New passphrase"
          value={passphrase}
          onChange={(event) => setPassphrase(event.target.value)}
          error={fieldError(rekey.error, "passphrase")}
        />
      )}
    </Form>
  );
}
