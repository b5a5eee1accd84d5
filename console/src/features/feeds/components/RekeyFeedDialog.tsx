import { useState, type ReactNode } from "react";

import type { Feed } from "../../../api/types";
import { Dialog } from "../../../ui/Dialog";
import { fieldError } from "../../../ui/ErrorMessage";
import { SecretField, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { useToast } from "../../../ui/Toast";
import { useRekeyFeed } from "../queries";

const GRACE = [
  { value: "0", label: "not any more" },
  { value: "3600", label: "for an hour" },
  { value: "86400", label: "for a day" },
  { value: "604800", label: "for a week" },
];

/** Replaces the stream key of a feed. */
export function RekeyFeedDialog({ feed, trigger }: { feed: Feed; trigger: ReactNode }): ReactNode {
  const lead = "An encoder that publishes now stays connected. Its next connection needs a valid key.";
  return (
    <Dialog trigger={trigger} title={`New stream key for ${feed.name}`} lead={lead}>
      {(close) => <RekeyForm name={feed.name} onDone={close} />}
    </Dialog>
  );
}

function RekeyForm({ name, onDone }: { name: string; onDone: () => void }): ReactNode {
  const rekey = useRekeyFeed(name);
  const showToast = useToast();
  const [key, setKey] = useState("");
  const [grace, setGrace] = useState("86400");
  const submit = () => {
    rekey.mutate(
      { grace_s: Number(grace), ...(key === "" ? {} : { key }) },
      {
        onSuccess: () => {
          showToast(`${name} has a new stream key.`);
          onDone();
        },
        onError: () => setKey(""),
      },
    );
  };
  return (
    <Form onSubmit={submit} error={rekey.error} disabled={rekey.isPending} action="Replace the key">
      <SelectField
        label="The present key is valid"
        value={grace}
        onChange={(event) => setGrace(event.target.value)}
        choices={GRACE}
      />
      <SecretField
        label="Own key"
        placeholder="a strong one is generated"
        value={key}
        onChange={(event) => setKey(event.target.value)}
        error={fieldError(rekey.error, "key")}
      />
    </Form>
  );
}
