import type { ReactNode } from "react";

import type { ConditionLevel, FeedPhase, PushPhase } from "../lib/states";

/** States of feeds and pushes. Each has its own shape, word and color; the shape alone identifies them. */
export type StateName = FeedPhase | PushPhase;

const TONES: Record<StateName, string> = {
  off: "text-off",
  dialing: "text-wait",
  flowing: "text-flow",
  live: "text-flow",
  stalled: "text-lag",
  lagging: "text-lag",
  holding: "text-hold",
  waiting: "text-wait",
  blocked: "text-block",
};

export function isStateWord(text: string): text is StateName {
  return text in TONES;
}

const LEVEL_PENNANTS: Record<ConditionLevel, StateName> = {
  off: "off",
  good: "flowing",
  holding: "holding",
  starting: "dialing",
  degraded: "lagging",
  down: "waiting",
  blocked: "blocked",
};

/** Pennant of a relay's condition. */
export function pennantOf(level: ConditionLevel): StateName {
  return LEVEL_PENNANTS[level];
}

export function toneOf(state: StateName): string {
  return TONES[state];
}

const FILL = "fill-current stroke-current stroke-[1.4]";
const OUTLINE = "fill-none stroke-current stroke-[1.8]";
const FULL_FLAG = "M3 2.5 L21 9 L3 15.5 Z";

function shape(state: StateName): ReactNode {
  switch (state) {
    case "flowing":
    case "live":
      return <path d={FULL_FLAG} className={FILL} />;
    case "holding":
      return (
        <>
          <path d="M3 2.5 L21 9 L3 9 Z" className={FILL} />
          <path d="M3 9 L21 9 L3 15.5 Z" className={OUTLINE} />
        </>
      );
    case "stalled":
    case "lagging":
      return <path d="M3 2.5 L21 2.5 L15 9 L21 15.5 L3 15.5 Z" className={FILL} />;
    case "dialing":
      return (
        <>
          <path d={FULL_FLAG} className={OUTLINE} strokeDasharray="3 2.4" />
          <path d="M3 6 L13 9 L3 12 Z" className={FILL} />
        </>
      );
    case "waiting":
      return (
        <>
          <path d={FULL_FLAG} className={OUTLINE} />
          <circle cx="16" cy="15.5" r="6" className="fill-card stroke-current stroke-[1.6]" />
          <path d="M16 12.4 V15.5 L18.4 17" className="fill-none stroke-current stroke-[1.5]" strokeLinecap="round" />
        </>
      );
    case "blocked":
      return (
        <>
          <path d="M3 2.5 H20 V15.5 H3 Z" className={FILL} />
          <path d="M5.5 13.6 L18 4.4" className="fill-none stroke-card stroke-[2.4]" strokeLinecap="round" />
        </>
      );
    case "off":
      return <path d={FULL_FLAG} className={OUTLINE} />;
  }
}

/** Pennant of a state. Decorative: the state is written beside it, or given as `label`. */
export function Pennant({ state, size = 22, label }: { state: StateName; size?: number; label?: string }): ReactNode {
  const naming = label === undefined ? { "aria-hidden": true as const } : { role: "img", "aria-label": label };
  return (
    <svg width={size} height={size} viewBox="0 0 24 24" className={`flex-none ${TONES[state]}`} {...naming}>
      <line x1="3" y1="1.5" x2="3" y2="22.5" className="stroke-current stroke-2" strokeLinecap="round" />
      <g strokeLinejoin="round">{shape(state)}</g>
    </svg>
  );
}
