import { useState, type SyntheticEvent, type ReactNode } from "react";

import type { FoundCamera, FoundChannel } from "../../../api/types";
import { rate } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { Empty } from "../../../ui/Empty";
import { ErrorMessage, fieldError } from "../../../ui/ErrorMessage";
import { Field, SecretField } from "../../../ui/Field";
import { JobStep } from "../../../ui/JobStep";
import { Toggle } from "../../../ui/Toggle";
import { useFind } from "../queries";
import type { FeedDraft } from "./FeedForm";

/**
 * Searches the local networks, or the hosts given, and offers what the cameras stream. A user name and password are sent only to hosts
 * that a person has named or selected: any device in the network can answer a search.
 */
export function FindPanel({ onChoose }: { onChoose: (draft: FeedDraft) => void }): ReactNode {
  const find = useFind();
  const [cameras, setCameras] = useState<FoundCamera[] | null>(null);
  const [at, setAt] = useState("");
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const hosts = hostsOf(at);
  const named = hosts.length > 0;
  const submit = (event: SyntheticEvent) => {
    event.preventDefault();
    const account = user === "" || !named ? {} : { user, ...(password === "" ? {} : { password }) };
    find.mutate(
      { ...(named ? { at: hosts.join(",") } : {}), ...account },
      { onSuccess: (found) => setCameras((known) => (named ? merged(known ?? [], found) : found)) },
    );
  };
  const select = (host: string, selected: boolean) =>
    setAt((selected ? [...hosts, host] : hosts.filter((each) => each !== host)).join(", "));
  return (
    <div className="grid gap-4">
      <form onSubmit={submit} autoComplete="off" className="grid items-end gap-3 sm:grid-cols-[1fr_1fr_1fr_auto]">
        <Field
          label="Hosts"
          placeholder="all local networks"
          spellCheck={false}
          value={at}
          onChange={(event) => setAt(event.target.value)}
          error={fieldError(find.error, "at")}
        />
        <Field
          label="User name"
          placeholder={named ? "" : "for named hosts only"}
          disabled={!named}
          value={user}
          onChange={(event) => setUser(event.target.value)}
        />
        <SecretField
          label="Password"
          disabled={!named}
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
        <Button kind="strong" type="submit" disabled={find.isPending}>
          {find.isPending ? "Searching …" : named ? "Search these hosts" : "Search"}
        </Button>
      </form>
      {find.isPending && <JobStep progress={find.progress} otherwise="waiting for replies" />}
      {find.error !== null && <ErrorMessage error={find.error} />}
      {cameras?.length === 0 && (
        <Empty title="No cameras found">
          Discovery reaches cameras in the same network that have ONVIF discovery enabled. Enter a host, or enter the
          address.
        </Empty>
      )}
      {cameras?.some((camera) => camera.needs_sign_in) === true && (
        <p className="text-[13px] text-quiet">Select your cameras, and enter their user name and password.</p>
      )}
      <div className="grid gap-3 lg:grid-cols-2">
        {cameras?.map((camera) => (
          <Camera
            key={camera.service}
            camera={camera}
            user={user}
            selected={hosts.includes(authorityOf(camera.service))}
            onSelect={(selected) => select(authorityOf(camera.service), selected)}
            onChoose={onChoose}
          />
        ))}
      </div>
    </div>
  );
}

function hostsOf(text: string): string[] {
  return text.split(/[\s,]+/).filter((host) => host !== "");
}

/** Host and port of a device service. */
function authorityOf(service: string): string {
  return service.replace(/^[a-z]+:\/\//, "").split("/")[0] ?? "";
}

/** The known cameras, those that were asked again replaced. */
function merged(known: readonly FoundCamera[], found: readonly FoundCamera[]): FoundCamera[] {
  const asked = new Set(found.map((camera) => camera.service));
  return [...found, ...known.filter((camera) => !asked.has(camera.service))];
}

type CameraProps = {
  camera: FoundCamera;
  user: string;
  selected: boolean;
  onSelect: (selected: boolean) => void;
  onChoose: (draft: FeedDraft) => void;
};

function Camera({ camera, user, selected, onSelect, onChoose }: CameraProps): ReactNode {
  const clock = camera.clock_ahead_s;
  const address = authorityOf(camera.service);
  const title = camera.name === camera.host ? address : camera.name;
  const aside = [address, camera.model].filter((each) => each !== "" && each !== title).join(" · ");
  return (
    <Card label={title} title={title} aside={aside}>
      {camera.problem != null && (
        <p className={`text-[13px] font-semibold ${camera.needs_sign_in === true ? "text-wait" : "text-block"}`}>
          {camera.problem}
        </p>
      )}
      {camera.needs_sign_in === true && (
        <div className="mt-1">
          <Toggle label="Sign in to this camera" checked={selected} onChange={onSelect} />
        </div>
      )}
      {clock != null && Math.abs(clock) > 5 && (
        <p className="text-[13px] text-wait">
          The camera’s clock is {Math.abs(clock)} s {clock > 0 ? "ahead of" : "behind"} the clock of the service.
        </p>
      )}
      {camera.channels.map((channel) => (
        <Channel key={channel.name} channel={channel} onChoose={() => onChoose(draftOf(camera, channel, user))} />
      ))}
    </Card>
  );
}

function draftOf(camera: FoundCamera, channel: FoundChannel, user: string): FeedDraft {
  const [main, sub] = channel.streams;
  const name = camera.channels.length > 1 ? `${camera.name} ${channel.name}` : camera.name;
  return {
    name,
    ...(main === undefined ? {} : { url: main.address }),
    ...(sub === undefined ? {} : { sub_url: sub.address }),
    ...(user === "" ? {} : { user }),
    ...(camera.service === "" ? {} : { device: camera.service }),
  };
}

function Channel({ channel, onChoose }: { channel: FoundChannel; onChoose: () => void }): ReactNode {
  return (
    <div className="mt-2 border-t border-hair pt-2">
      <div className="flex items-center justify-between gap-3">
        <strong className="font-semibold">{channel.name}</strong>
        <Button onClick={onChoose}>Add feed</Button>
      </div>
      <ul className="mt-1 grid gap-1 text-[13px]">
        {channel.streams.map((stream) => (
          <li key={stream.profile + stream.address}>
            <span className="font-[550]">
              {stream.codec} {stream.width}×{stream.height}
              {stream.fps != null && ` · ${stream.fps} frames/s`}
              {stream.kbps != null && ` · ${rate(stream.kbps)}`}
            </span>
            <span className="block text-[12.5px] break-all text-quiet">{stream.address}</span>
            {stream.reported_address != null && (
              <span className="block text-[12.5px] break-all text-wait">
                The camera reports {stream.reported_address}, another host than the one that replied.
              </span>
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}
