import { useState, type FormEvent, type ReactNode } from "react";

import type { FoundCamera, FoundChannel } from "../../../api/types";
import { rate } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Card } from "../../../ui/Card";
import { Empty } from "../../../ui/Empty";
import { Fault, faultOf } from "../../../ui/Fault";
import { Field, SecretField } from "../../../ui/Field";
import { JobStep } from "../../../ui/JobStep";
import { useFind } from "../queries";
import type { FeedDraft } from "./FeedForm";

/** Looks for cameras in the local networks, or at one host, and offers what they stream. */
export function FindPanel({ onChoose }: { onChoose: (draft: FeedDraft) => void }): ReactNode {
  const find = useFind();
  const [at, setAt] = useState("");
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    find.mutate({
      ...(at.trim() === "" ? {} : { at: at.trim() }),
      ...(user === "" ? {} : { user, ...(password === "" ? {} : { password }) }),
    });
  };
  return (
    <div className="grid gap-4">
      <form onSubmit={submit} autoComplete="off" className="grid items-end gap-3 sm:grid-cols-[1fr_1fr_1fr_auto]">
        <Field
          label="At a host"
          placeholder="everywhere in the local networks"
          spellCheck={false}
          value={at}
          onChange={(event) => setAt(event.target.value)}
          error={faultOf(find.error, "at")}
        />
        <Field label="User name" value={user} onChange={(event) => setUser(event.target.value)} />
        <SecretField label="Password" value={password} onChange={(event) => setPassword(event.target.value)} />
        <Button kind="strong" type="submit" disabled={find.isPending}>
          {find.isPending ? "Looking …" : "Look for cameras"}
        </Button>
      </form>
      {find.isPending && <JobStep progress={find.progress} otherwise="waiting for answers of cameras" />}
      {find.error !== null && <Fault error={find.error} />}
      {find.data?.length === 0 && (
        <Empty title="No camera answered">
          Cameras answer in their own network only, and only where device discovery is switched on. Give a host, or type the
          address.
        </Empty>
      )}
      <div className="grid gap-3 lg:grid-cols-2">
        {find.data?.map((camera) => (
          <Camera key={camera.service} camera={camera} user={user} onChoose={onChoose} />
        ))}
      </div>
    </div>
  );
}

type CameraProps = { camera: FoundCamera; user: string; onChoose: (draft: FeedDraft) => void };

function Camera({ camera, user, onChoose }: CameraProps): ReactNode {
  const clock = camera.clock_ahead_s;
  return (
    <Card label={camera.name} title={camera.name} aside={[camera.host, camera.model].filter((each) => each !== "").join(" · ")}>
      {camera.problem != null && <p className="text-[13px] font-semibold text-block">{camera.problem}</p>}
      {clock != null && Math.abs(clock) > 5 && (
        <p className="text-[13px] text-wait">
          Its clock is {Math.abs(clock)} s {clock > 0 ? "ahead of" : "behind"} ours.
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
  };
}

function Channel({ channel, onChoose }: { channel: FoundChannel; onChoose: () => void }): ReactNode {
  return (
    <div className="mt-2 border-t border-hair pt-2">
      <div className="flex items-center justify-between gap-3">
        <strong className="font-semibold">{channel.name}</strong>
        <Button onClick={onChoose}>Take it</Button>
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
            {stream.told != null && (
              <span className="block text-[12.5px] break-all text-wait">
                It says {stream.told}, which is not where it was asked.
              </span>
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}
