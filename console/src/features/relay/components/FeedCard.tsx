import type { ReactNode } from "react";

import { isFlowing, isOff, type DialStepName } from "../../../lib/states";
import type { Relay } from "../../../api/types";
import { grouped, rate, untilRetry } from "../../../lib/format";
import { Link } from "../../../ui/Link";
import { State } from "../../../ui/State";
import { CauseNote } from "../../lines";
import { LivePicture } from "../../preview";
import { DialSteps } from "./DialSteps";

const WAY: readonly DialStepName[] = [
  "name found",
  "connected",
  "greeted",
  "signed in",
  "stream described",
  "tracks set up",
  "playing",
  "first keyframe",
];

/** The camera's side: its picture as it comes, and its measured facts. */
export function FeedCard({ relay }: { relay: Relay }): ReactNode {
  const { feed } = relay;
  const flows = isFlowing(feed.state);
  return (
    <section aria-label="Camera" className="min-w-0 overflow-hidden rounded-[10px] border border-hair bg-card">
      {flows && feed.video != null ? (
        <LivePicture feed={feed.name} />
      ) : (
        <div className="grid aspect-video place-items-center bg-hair">
          <State word={feed.state} size={30} />
        </div>
      )}
      <div className="grid gap-2 px-3.5 pt-1 pb-3 text-[13px]">
        <p className="flex flex-wrap items-baseline gap-x-3">
          <Link to={`/feeds/${encodeURIComponent(feed.name)}`} className="font-[650]">
            {feed.name}
          </Link>
          <span className="text-quiet">{facts(relay)}</span>
        </p>
        {feed.cause != null && <CauseNote note={{ cause: feed.cause, about: [feed.name] }} />}
        {feed.retry_in_s != null && <p className="text-wait">Next attempt in {untilRetry(feed.retry_in_s)}.</p>}
        {!flows && !isOff(feed.state) && (
          <DialSteps steps={feed.steps ?? []} expected={WAY} end={feed.state} state={feed.state} since={feed.since} />
        )}
      </div>
    </section>
  );
}

function facts(relay: Relay): string {
  const { video, audio, transport, packets_lost: lost, reconnects } = relay.feed;
  const parts: string[] = [];
  if (video != null) {
    parts.push(`${video.codec} ${video.profile} ${video.level.toFixed(1)}`, `${video.width}×${video.height}`);
    if (video.fps != null) {
      parts.push(`${video.fps.toFixed(1)} fps`);
    }
    parts.push(rate(video.kbps));
    if (video.keyframe_interval_s != null) {
      parts.push(`keyframe every ${video.keyframe_interval_s.toFixed(1)} s`);
    }
  }
  if (audio != null) {
    parts.push(
      `${audio.codec} ${audio.rate_hz / 1000} kHz ${audio.channels === 1 ? "mono" : audio.channels === 2 ? "stereo" : `${audio.channels} channels`}`,
    );
  }
  if (transport != null) {
    parts.push(transport.toUpperCase());
  }
  parts.push(`lost ${grouped(lost)}`);
  if (reconnects > 0) {
    parts.push(`${grouped(reconnects)} returns`);
  }
  return parts.join(" · ");
}
