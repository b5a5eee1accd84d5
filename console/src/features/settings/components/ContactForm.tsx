import { useState, type ReactNode } from "react";

import type { NewContact, Schemas, Channel } from "../../../api/types";
import { Button } from "../../../ui/Button";
import { Copy } from "../../../ui/Copy";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, SecretField, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { useAddContact } from "../queries";

const EMPTY = {
  name: "",
  type: "webhook",
  url: "",
  server: "",
  security: "tls",
  from: "",
  to: "",
  user: "",
  secret: "",
};

/** Form for a contact: its name, channel and secret. */
export function ContactForm({ onDone }: { onDone: () => void }): ReactNode {
  const add = useAddContact();
  const [typed, setTyped] = useState(EMPTY);
  const set = (change: Partial<typeof EMPTY>) => setTyped({ ...typed, ...change });
  const fieldErrorOf = (field: string) => fieldError(add.error, field);
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
          <strong>{add.data.contact.name} was saved.</strong> Messages to it are signed with this secret. It is not
          shown again.
        </p>
        <Copy label="Signing secret" text={add.data.secret} />
        <Button kind="strong" onClick={onDone} className="justify-self-end">
          I have it
        </Button>
      </div>
    );
  }
  return (
    <Form onSubmit={submit} error={add.error} disabled={add.isPending} action="Add contact">
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Name"
          required
          value={typed.name}
          onChange={(event) => set({ name: event.target.value })}
          error={fieldErrorOf("name")}
        />
        <SelectField
          label="Channel"
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
          error={fieldErrorOf("url")}
        />
      ) : (
        <Mail typed={typed} set={set} fieldErrorOf={fieldErrorOf} />
      )}
      <SecretField
        label={typed.type === "webhook" ? "Signing secret" : "Password of the mail server"}
        value={typed.secret}
        onChange={(event) => set({ secret: event.target.value })}
        help={typed.type === "webhook" ? "Leave empty to have one generated and shown once." : undefined}
        error={fieldErrorOf("secret")}
      />
    </Form>
  );
}

type MailProps = {
  typed: typeof EMPTY;
  set: (change: Partial<typeof EMPTY>) => void;
  fieldErrorOf: (field: string) => string | null;
};

function Mail({ typed, set, fieldErrorOf }: MailProps): ReactNode {
  return (
    <div className="grid gap-4 sm:grid-cols-2">
      <Field
        label="Mail server"
        required
        placeholder="mail.example.net:587"
        value={typed.server}
        onChange={(event) => set({ server: event.target.value })}
        error={fieldErrorOf("server")}
      />
      <SelectField
        label="Encryption"
        value={typed.security}
        onChange={(event) => set({ security: event.target.value })}
        choices={[
          { value: "tls", label: "implicit TLS" },
          { value: "starttls", label: "STARTTLS" },
          { value: "none", label: "none" },
        ]}
      />
      <Field
        label="From"
        required
        placeholder="yonder@example.net"
        value={typed.from}
        onChange={(event) => set({ from: event.target.value })}
        error={fieldErrorOf("from")}
      />
      <Field
        label="To"
        required
        placeholder="desk@example.net, chief@example.net"
        value={typed.to}
        onChange={(event) => set({ to: event.target.value })}
        error={fieldErrorOf("to")}
      />
      <Field
        label="User name"
        value={typed.user}
        onChange={(event) => set({ user: event.target.value })}
        error={fieldErrorOf("user")}
      />
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
