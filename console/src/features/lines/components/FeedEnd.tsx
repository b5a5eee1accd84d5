import type { ReactNode } from "react";

import type { FeedState, Relay } from "../../../api/types";
import { rate } from "../../../lib/format";
import { Pennant, stateOf, toneOf } from "../../../ui/Pennant";
import { Since } from "./Since";

/** The left end of a line: what is pulled, as measured. */
export function FeedEnd({ relay }: { relay: Relay }): ReactNode {
  const { feed } = relay;
  const state = stateOf(feed.state);
  return (
    <div className="min-w-0">
      <div className="flex items-center gap-[7px]">
        <Pennant state={state} />
        <h2 className="min-w-0 truncate text-base leading-tight font-[650]">{relay.name}</h2>
      </div>
      <div className="ml-[29px]">
        {feed.name !== relay.name && <p className="truncate text-[12.5px] text-quiet">{feed.name}</p>}
        <p className="text-[13px]">
          <span className={`font-semibold ${toneOf(state)}`}>{feed.state}</span>
          {state === "flowing" && <Since time={feed.since} className="text-quiet" before=" for " />}
          {feed.dials_in_s != null && (
            <span className="text-quiet"> · dials again in {Math.round(feed.dials_in_s)} s</span>
          )}
        </p>
        {feed.video != null && <p className="text-[12.5px] whitespace-nowrap text-quiet">{facts(feed)}</p>}
        {feed.video != null && <p className="mt-0.5 font-[650]">{rate(state === "flowing" ? feed.video.kbps : 0)}</p>}
      </div>
    </div>
  );
}

function facts(feed: FeedState): string {
  const { video, audio } = feed;
  if (video == null) {
    return "";
  }
  const parts = [video.codec, `${video.width}×${video.height}`];
  if (video.fps != null) {
    parts.push(`${Math.round(video.fps * 10) / 10} fps`);
  }
  if (audio != null) {
    parts.push(audio.codec);
  }
  return parts.join(" · ");
}
