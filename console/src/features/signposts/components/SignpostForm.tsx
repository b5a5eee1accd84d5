import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import type { NewSignpost, Signpost, SignpostChange } from "../../../api/types";
import { volume } from "../../../lib/format";
import { fieldError } from "../../../ui/ErrorMessage";
import { Field, SelectField } from "../../../ui/Field";
import { Form } from "../../../ui/Form";
import { Toggle } from "../../../ui/Toggle";
import { relaysQuery } from "../../lines";
import { useAddSignpost, useEditSignpost } from "../queries";

type Typed = {
  name: string;
  relay: string;
  title: string;
  player: boolean;
  unlisted: boolean;
  random: boolean;
  statusPage: boolean;
  maxViewers: string;
  daily: string;
};

/** A signpost: a new one, or a change of one. */
export function SignpostForm({ signpost, onDone }: { signpost?: Signpost; onDone: () => void }): ReactNode {
  const relays = useQuery(relaysQuery());
  const add = useAddSignpost();
  // The revision at the time when the form was opened.
  const [revision] = useState(signpost?.revision);
  const edit = useEditSignpost(signpost?.name ?? "", revision);
  const [typed, setTyped] = useState<Typed>(() => ({
    name: signpost?.name ?? "",
    relay: signpost?.relay ?? "",
    title: signpost?.title ?? "",
    player: signpost?.player ?? true,
    unlisted: signpost?.unlisted ?? false,
    random: false,
    statusPage: signpost?.status_page ?? false,
    maxViewers: String(signpost?.max_viewers ?? 500),
    daily: signpost?.daily_bytes == null ? "" : volume(signpost.daily_bytes).replaceAll(" ", ""),
  }));
  const [daily] = useState(typed.daily);
  const set = (change: Partial<Typed>) => setTyped({ ...typed, ...change });
  const error = signpost === undefined ? add.error : edit.error;
  const submit = () => {
    if (signpost === undefined) {
      add.mutate(added(typed), { onSuccess: onDone });
    } else {
      edit.mutate(changed(typed, signpost, daily), { onSuccess: onDone });
    }
  };
  const names = (relays.data ?? []).map((relay) => relay.name);
  return (
    <Form
      onSubmit={submit}
      error={error}
      disabled={add.isPending || edit.isPending || typed.relay === ""}
      action={signpost === undefined ? "Add signpost" : "Save"}
    >
      <div className="grid gap-4 sm:grid-cols-2">
        <Field
          label="Alias"
          required
          placeholder="summit-station"
          help="Part of the address: lower-case letters, digits and hyphens."
          value={typed.name}
          onChange={(event) => set({ name: event.target.value })}
          error={fieldError(error, "name")}
        />
        <SelectField
          label="Relay"
          value={typed.relay}
          onChange={(event) => set({ relay: event.target.value })}
          choices={[{ value: "", label: "choose one" }, ...names.map((name) => ({ value: name, label: name }))]}
        />
        <Field
          label="Title"
          placeholder={typed.relay}
          value={typed.title}
          onChange={(event) => set({ title: event.target.value })}
          error={fieldError(error, "title")}
        />
        <Field
          label="Viewers at a time"
          type="number"
          min={1}
          max={100_000}
          required
          value={typed.maxViewers}
          onChange={(event) => set({ maxViewers: event.target.value })}
          error={fieldError(error, "max_viewers")}
        />
        <Field
          label="Volume to viewers in a day"
          placeholder="no limit; or such as 50GB"
          value={typed.daily}
          onChange={(event) => set({ daily: event.target.value })}
          error={fieldError(error, "daily")}
        />
      </div>
      <Toggle
        label="Play the picture on the page"
        help="Otherwise the page leads to the watch page at the platform."
        checked={typed.player}
        onChange={(player) => set({ player })}
      />
      <Toggle
        label="Ask search engines not to list it"
        checked={typed.unlisted || typed.random}
        onChange={(unlisted) => set({ unlisted })}
      />
      {signpost === undefined && (
        <Toggle
          label="Append random letters to the alias"
          help="The address cannot be guessed."
          checked={typed.random}
          onChange={(random) => set({ random })}
        />
      )}
      <Toggle
        label="Offer a page with the availability of today"
        checked={typed.statusPage}
        onChange={(statusPage) => set({ statusPage })}
      />
    </Form>
  );
}

function added(typed: Typed): NewSignpost {
  return {
    name: typed.name,
    relay: typed.relay,
    player: typed.player,
    unlisted: typed.unlisted,
    random: typed.random,
    status_page: typed.statusPage,
    max_viewers: Number(typed.maxViewers),
    ...(typed.title.trim() === "" ? {} : { title: typed.title }),
    ...(typed.daily.trim() === "" ? {} : { daily: typed.daily }),
  };
}

/** Returns what differs from the signpost. `daily` is its limit as it was shown. */
function changed(typed: Typed, signpost: Signpost, daily: string): SignpostChange {
  return {
    ...(typed.name === signpost.name ? {} : { name: typed.name }),
    ...(typed.relay === signpost.relay ? {} : { relay: typed.relay }),
    ...(typed.title === signpost.title ? {} : { title: typed.title.trim() === "" ? typed.relay : typed.title }),
    ...(typed.player === signpost.player ? {} : { player: typed.player }),
    ...(typed.unlisted === signpost.unlisted ? {} : { unlisted: typed.unlisted }),
    ...(typed.statusPage === signpost.status_page ? {} : { status_page: typed.statusPage }),
    ...(Number(typed.maxViewers) === signpost.max_viewers ? {} : { max_viewers: Number(typed.maxViewers) }),
    ...(typed.daily === daily ? {} : { daily: typed.daily }),
  };
}
