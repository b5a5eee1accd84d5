import type { ReactNode } from "react";

import type { Relay } from "../../../api/types";
import { isFlowing, isSending } from "../../../lib/states";
import type { StateName } from "../../../ui/Pennant";
import { ROW } from "./PushRow";

const WIDTH = 200;
const KNOT = 84;

/** Stroke of a branch by its state. */
const STROKES: Record<StateName, string> = {
  flowing: "stroke-flow",
  live: "stroke-flow",
  stalled: "stroke-lag [stroke-dasharray:2_7]",
  lagging: "stroke-lag",
  holding: "stroke-hold",
  waiting: "stroke-wait [stroke-dasharray:7_7]",
  dialing: "stroke-wait [stroke-dasharray:7_7]",
  blocked: "stroke-block [stroke-dasharray:1_8]",
  off: "stroke-off [stroke-dasharray:1_8]",
};

/** Stroke width by bit rate: 2 Mbit/s is 4, 6 Mbit/s is 6. */
function weight(kbps: number): number {
  return Math.min(9, 1.8 + Math.sqrt(kbps) * 0.055);
}

/** Diagram from a feed to its pushes. */
export function FlowDiagram({ relay }: { relay: Relay }): ReactNode {
  const rows = Math.max(1, relay.pushes.length);
  const height = Math.max(76, rows * ROW);
  const middle = height / 2;
  const top = (height - rows * ROW) / 2;
  const feedState = relay.feed.state;
  const feedWeight = isFlowing(feedState) ? weight(relay.feed.video?.kbps ?? 0) : 2.5;
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${height}`}
      style={{ height }}
      preserveAspectRatio="none"
      aria-hidden="true"
      className="hidden w-full overflow-visible md:block"
    >
      <g className="fill-none" strokeLinecap="round">
        <path d={`M8 ${middle} H${KNOT}`} className={STROKES[feedState]} strokeWidth={feedWeight} />
        {relay.pushes.map((push, at) => {
          const y = top + (at + 0.5) * ROW;
          return (
            <path
              key={push.destination}
              d={`M${KNOT} ${middle} C 120 ${middle}, 120 ${y}, 166 ${y} H ${WIDTH}`}
              className={STROKES[push.state]}
              strokeWidth={isSending(push.state) ? weight(push.kbps) * 0.75 : 2.2}
            />
          );
        })}
      </g>
      <circle cx={KNOT} cy={middle} r="5.5" className="fill-card stroke-ink" strokeWidth="2.5" />
    </svg>
  );
}
