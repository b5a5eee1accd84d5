import type { ReactNode } from "react";

import type { Destination, PushState, Relay } from "../../../api/types";
import { grouped, untilRetry, volume } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { isBlocked, isLagging, isSending, isWaiting, type DialStepName } from "../../../lib/states";
import { Pennant, toneOf } from "../../../ui/Pennant";
import { RekeyDialog } from "../../destinations";
import { CauseNote } from "../../lines";
import { May } from "../../session";
import { DialSteps } from "./DialSteps";
import { Rendition } from "./Rendition";
import { RemovePush } from "./RemovePush";

const RTMP: readonly DialStepName[] = [
  "name found",
  "connected",
  "greeted",
  "application accepted",
  "key accepted",
  "first keyframe",
];
const WAYS: Record<string, readonly DialStepName[]> = {
  rtmp: RTMP,
  rtmps: [...RTMP.slice(0, 2), "TLS agreed", ...RTMP.slice(2)],
};

/** All steps of a dial there, in order. */
function wayTo(destination: Destination | undefined): readonly DialStepName[] {
  if (destination?.protocol === "srt") {
    return [
      "name found",
      "listener answered",
      destination.encrypted ? "accepted, encrypted" : "accepted",
      "first keyframe",
    ];
  }
  return WAYS[destination?.protocol ?? "rtmp"] ?? RTMP;
}

type Props = { relay: Relay; push: PushState; destination: Destination | undefined };

/** One delivery: its rate, each step of its dial, and what is wrong with it. */
export function PushCard({ relay, push, destination }: Props): ReactNode {
  const { state } = push;
  const sends = isSending(state);
  const isTroubled = isBlocked(state) || isLagging(state) || isWaiting(state);
  const border = isBlocked(state) ? "border-block" : isLagging(state) ? "border-lag" : "border-hair";
  return (
    <section
      aria-label={push.destination}
      className={`grid min-w-0 content-start gap-2 rounded-[10px] border bg-card px-4 py-3.5 ${border}`}
    >
      <div className="flex items-center justify-between gap-2">
        <h2 className="flex min-w-0 items-center gap-[7px] text-base font-[650]">
          <Pennant state={state} />
          <span className="truncate">{push.destination}</span>
        </h2>
        <span className={`text-[13px] font-semibold ${toneOf(state)}`}>{push.state}</span>
      </div>
      <p className="text-[22px] leading-none font-[680]">
        {sends ? grouped(push.kbps) : "—"}{" "}
        <small className="text-[13px] font-normal text-quiet">{needs(relay, push)}</small>
      </p>
      {push.cause != null && isTroubled && <CauseNote note={{ cause: push.cause, about: [push.destination] }} />}
      {push.rendition != null && <Rendition relay={relay} destination={push.destination} rendition={push.rendition} />}
      {push.warning != null && <p className="text-[13px] text-lag">{push.warning}</p>}
      {push.retry_in_s != null && (
        <p className="text-[13px] text-wait">Next attempt in {untilRetry(push.retry_in_s)}.</p>
      )}
      <DialSteps
        steps={push.steps}
        expected={wayTo(destination)}
        end={push.state}
        state={push.state}
        since={push.since}
      />
      <p className="text-[12.5px] text-quiet">{figures(push, destination)}</p>
      <div className="flex flex-wrap gap-2">
        {destination !== undefined && (
          <May role="operator">
            <RekeyDialog destination={destination} trigger={<Button>Roll key</Button>} />
          </May>
        )}
        <May role="admin">
          <RemovePush relay={relay} destination={push.destination} />
        </May>
        {destination?.watch_page != null && (
          <a
            href={destination.watch_page}
            target="_blank"
            rel="noreferrer"
            className="rounded-md border border-edge px-3.5 py-2 text-sm font-semibold hover:border-ink"
          >
            Watch page
          </a>
        )}
      </div>
    </section>
  );
}

/** Required rate, where less gets through. */
function needs(relay: Relay, push: PushState): string {
  const wanted = relay.feed.video?.kbps ?? 0;
  return isLagging(push.state) && wanted > push.kbps ? `of ${grouped(wanted)} kbit/s` : "kbit/s";
}

function figures(push: PushState, destination: Destination | undefined): string {
  const parts = [`${volume(push.bytes)} sent`, `${grouped(push.frames_sent)} frames`];
  if (push.frames_dropped > 0) {
    parts.push(`${grouped(push.frames_dropped)} skipped`);
  }
  if (push.reconnects > 0) {
    parts.push(`${grouped(push.reconnects)} returns`);
  }
  if (push.backlog_ms > 0) {
    parts.push(`${(push.backlog_ms / 1000).toFixed(1)} s behind`);
  }
  const { link } = push;
  if (link != null) {
    parts.push(`round trip ${grouped(link.rtt_ms)} ms`);
    parts.push(`lost ${share(link.lost, link.sent)}`, `resent ${share(link.retransmitted, link.sent)}`);
  }
  if (push.server === "backup") {
    parts.push("on the backup server");
  }
  if (push.uplink != null) {
    parts.push(`by ${push.uplink}`);
  }
  if (destination !== undefined) {
    parts.push(destination.protocol.toUpperCase() + (destination.encrypted ? ", encrypted" : ""));
  }
  return parts.join(" · ");
}

function share(count: number, of: number): string {
  return `${((count / Math.max(1, of)) * 100).toFixed(1)} %`;
}
