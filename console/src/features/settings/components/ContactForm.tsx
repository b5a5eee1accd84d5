import { useState, type ReactNode } from "react";

import type { NewContact, Schemas, Channel } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Copy } from "../../../ui/Copy";
import { faultOf } from "../../../ui/Fault";
import { Field, SecretField, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { useAddContact } from "../queries";

const EMPTY = { name: "", type: "webhook", url: "", server: "", security: "tls", from: "", to: "", user: "", secret: "" };

/** Form for a contact: its name, channel and secret. */
export function ContactForm({ onDone }: { onDone: () => void }): ReactNode {
  const add = useAddContact();
  const [typed, setTyped] = useState(EMPTY);
  const set = (change: Partial<typeof EMPTY>) => setTyped({ ...typed, ...change });
  const fault = (field: string) => faultOf(add.error, field);
  const submit = () => {
    add.mutate(request(typed), {
      // A secret that the service made is shown once, before the dialog goes.
      onSuccess: (added) => added.secret == null && onDone(),
      onError: () => set({ secret: "" }),
    });
  };
  if (add.data?.secret != null) {
    return (
      <div className="grid gap-3">
        <p>
          <strong>{add.data.contact.name} is kept.</strong> Messages to it are signed with this secret. It is not shown again.
        </p>
        <Copy label="Signing secret" text={add.data.secret} />
        <Button kind="strong" onClick={onDone} className="justify-self-end">
          I have it
        </Button>
      </div>
    );
  }
  return (
    <Form onSubmit={submit} error={add.error} disabled={add.isPending} action="Add the contact">
      <div className="grid gap-4 sm:grid-cols-2">
        <Field label="Name" required value={typed.name} onChange={(event) => set({ name: event.target.value })} error={fault("name")} />
        <SelectField
          label="Notified by"
          value={typed.type}
          onChange={(event) => set({ type: event.target.value })}
          choices={[
            { value: "webhook", label: "webhook (a signed POST)" },
            { value: "email", label: "e-mail" },
          ]}
        />
      </div>
      {typed.type === "webhook" ? (
        <Field
          label="Web address"
          type="url"
          required
          placeholder="https://desk.example.net/yonder"
          value={typed.url}
          onChange={(event) => set({ url: event.target.value })}
          error={fault("url")}
        />
      ) : (
        <Mail typed={typed} set={set} fault={fault} />
      )}
      <SecretField
        label={typed.type === "webhook" ? "Signing secret" : "Password of the mail server"}
        value={typed.secret}
        onChange={(event) => set({ secret: event.target.value })}
        help={typed.type === "webhook" ? "Left empty, one is made and shown once." : undefined}
        error={fault("secret")}
      />
    </Form>
  );
}

type MailProps = {
  typed: typeof EMPTY;
  set: (change: Partial<typeof EMPTY>) => void;
  fault: (field: string) => string | null;
};

function Mail({ typed, set, fault }: MailProps): ReactNode {
  return (
    <div className="grid gap-4 sm:grid-cols-2">
      <Field
        label="Mail server"
        required
        placeholder="mail.example.net:587"
        value={typed.server}
        onChange={(event) => set({ server: event.target.value })}
        error={fault("server")}
      />
      <SelectField
        label="Encryption"
        value={typed.security}
        onChange={(event) => set({ security: event.target.value })}
        choices={[
          { value: "tls", label: "from the beginning" },
          { value: "starttls", label: "after the greeting" },
          { value: "none", label: "none" },
        ]}
      />
      <Field
        label="From"
        required
        placeholder="yonder@example.net"
        value={typed.from}
        onChange={(event) => set({ from: event.target.value })}
        error={fault("from")}
      />
      <Field
        label="To"
        required
        placeholder="desk@example.net, chief@example.net"
        value={typed.to}
        onChange={(event) => set({ to: event.target.value })}
        error={fault("to")}
      />
      <Field label="User name" value={typed.user} onChange={(event) => set({ user: event.target.value })} error={fault("user")} />
    </div>
  );
}

function request(typed: typeof EMPTY): NewContact {
  const channel: Channel =
    typed.type === "webhook"
      ? { type: "webhook", url: typed.url }
      : {
          type: "email",
          server: typed.server,
          security: typed.security as Schemas["MailSecurity"],
          from: typed.from,
          to: typed.to.split(/[,\s]+/).filter((each) => each !== ""),
          ...(typed.user === "" ? {} : { user: typed.user }),
        };
  return { name: typed.name, channel, ...(typed.secret === "" ? {} : { secret: typed.secret }) };
}
