import { useState, type ReactNode } from "react";

import type { Feed, FeedChange, NewFeed, Transport } from "../../../api/types";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, SecretField, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { useAddFeed, useEditFeed } from "../queries";

/** Initial values of a new feed. */
export type FeedDraft = { name?: string; url?: string; sub_url?: string; user?: string; device?: string };

type Props = { feed?: Feed; draft?: FeedDraft; action?: string; onDone: (feed: Feed) => void };

const TRANSPORTS = [
  { value: "auto", label: "automatic" },
  { value: "tcp", label: "TCP, interleaved" },
  { value: "udp", label: "UDP, datagrams" },
];

function passwordHint(feed: Feed | undefined): string {
  if (feed?.secret_lost === true) {
    return "cannot be opened; type it again";
  }
  return feed?.has_password === true ? "kept; type another to replace it" : "";
}

/** A camera's address and account: a new feed, or a change of one. */
export function FeedForm({ feed, draft = {}, action, onDone }: Props): ReactNode {
  const add = useAddFeed();
  // The revision at the time when the form was opened.
  const [revision] = useState(feed?.revision);
  const edit = useEditFeed(feed?.name ?? "", revision);
  const [typed, setTyped] = useState({
    name: feed?.name ?? draft.name ?? "",
    url: feed?.url ?? draft.url ?? "",
    sub: feed?.sub_url ?? draft.sub_url ?? "",
    user: feed?.user ?? draft.user ?? "",
    password: "",
    transport: feed?.transport ?? "auto",
    pin: feed?.pin ?? "",
    site: feed?.site ?? "",
    device: feed?.device ?? draft.device ?? "",
  });
  const set = (change: Partial<typeof typed>) => setTyped({ ...typed, ...change });
  const error = feed === undefined ? add.error : edit.error;
  const isPending = add.isPending || edit.isPending;
  const submit = () => {
    const options = { onSuccess: onDone, onError: () => set({ password: "" }) };
    if (feed === undefined) {
      add.mutate(added(typed), options);
    } else {
      edit.mutate(changed(typed, feed), options);
    }
  };
  const fieldErrorOf = (field: string) => fieldError(error, field);
  return (
    <Form
      onSubmit={submit}
      error={error}
      disabled={isPending}
      action={action ?? (feed === undefined ? "Save camera" : "Save")}
    >
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Name"
          required
          placeholder="Summit Station"
          value={typed.name}
          onChange={(event) => set({ name: event.target.value })}
          error={fieldErrorOf("name")}
        />
        <Field
          label="Site"
          placeholder="Summit"
          value={typed.site}
          onChange={(event) => set({ site: event.target.value })}
          error={fieldErrorOf("site")}
        />
      </div>
      <Field
        label="Address of the main stream"
        required
        spellCheck={false}
        placeholder="rtsp://192.0.2.7/main"
        value={typed.url}
        onChange={(event) => set({ url: event.target.value })}
        help="May contain user name and password: they are split off and stored encrypted."
        error={fieldErrorOf("url")}
      />
      <Field
        label="Address of the sub stream"
        spellCheck={false}
        placeholder="rtsp://192.0.2.7/sub"
        value={typed.sub}
        onChange={(event) => set({ sub: event.target.value })}
        help="Optional lighter stream, for surveys and previews."
        error={fieldErrorOf("sub_url")}
      />
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="User name"
          value={typed.user}
          onChange={(event) => set({ user: event.target.value })}
          error={fieldErrorOf("user")}
        />
        <SecretField
          label="Password"
          placeholder={passwordHint(feed)}
          value={typed.password}
          onChange={(event) => set({ password: event.target.value })}
          error={fieldErrorOf("password")}
        />
        <SelectField
          label="Transport"
          value={typed.transport}
          onChange={(event) => set({ transport: event.target.value as Transport })}
          choices={TRANSPORTS}
        />
        <Field
          label="Certificate fingerprint"
          spellCheck={false}
          value={typed.pin}
          onChange={(event) => set({ pin: event.target.value })}
          help="SHA-256, for rtsps cameras with a self-signed certificate."
          error={fieldErrorOf("pin")}
        />
      </div>
      <Field
        label="ONVIF device service"
        spellCheck={false}
        placeholder="192.0.2.7:8080"
        value={typed.device}
        onChange={(event) => set({ device: event.target.value })}
        help="Optional: host and port, if it is not port 80 of the camera. Used to read and change the camera's settings."
        error={fieldErrorOf("device")}
      />
    </Form>
  );
}

type Typed = {
  name: string;
  url: string;
  sub: string;
  user: string;
  password: string;
  transport: Transport;
  pin: string;
  site: string;
  device: string;
};

function added(typed: Typed): NewFeed {
  const text = (name: keyof NewFeed, value: string) => (value.trim() === "" ? {} : { [name]: value });
  return {
    name: typed.name,
    url: typed.url,
    transport: typed.transport,
    ...text("sub_url", typed.sub),
    ...text("user", typed.user),
    ...text("password", typed.password),
    ...text("pin", typed.pin),
    ...text("site", typed.site),
    ...text("device", typed.device),
  };
}

/** Changed fields. Removing the user name removes the password with it. */
function changed(typed: Typed, feed: Feed): FeedChange {
  const text = (name: keyof FeedChange, value: string, before: string | null | undefined) =>
    value === (before ?? "") ? {} : { [name]: value };
  return {
    ...text("name", typed.name, feed.name),
    ...text("url", typed.url, feed.url),
    ...text("sub_url", typed.sub, feed.sub_url),
    ...text("user", typed.user, feed.user),
    ...text("pin", typed.pin, feed.pin),
    ...text("site", typed.site, feed.site),
    ...text("device", typed.device, feed.device),
    ...(typed.password === "" ? {} : { password: typed.password }),
    ...(typed.transport === feed.transport ? {} : { transport: typed.transport }),
  };
}
