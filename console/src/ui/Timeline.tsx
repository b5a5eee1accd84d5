import type { ReactNode } from "react";

import type { Band } from "../api/types";
import type { DayLevel } from "../lib/states";

const FILLS: Partial<Record<DayLevel, string>> = {
  flowing: "fill-flow opacity-60",
  holding: "fill-hold",
  lagging: "fill-lag",
  down: "fill-block",
};

/** Height of a band, so that faults differ by shape too. */
const INSETS: Partial<Record<DayLevel, number>> = { flowing: 2, holding: 1, lagging: 1, down: 0 };

function spans(bands: readonly Band[]): { state: DayLevel; begin: number; steps: number }[] {
  let begin = 0;
  return bands.map((band) => {
    const span = { state: band.state, begin, steps: band.steps };
    begin += band.steps;
    return span;
  });
}

/** Text alternative: minutes of each state. */
export function timelineText(bands: readonly Band[], stepSeconds: number): string {
  const sums = new Map<DayLevel, number>();
  bands.forEach((band) => sums.set(band.state, (sums.get(band.state) ?? 0) + band.steps));
  const minutes = (steps: number) => Math.round((steps * stepSeconds) / 60);
  const parts = [...sums]
    .filter(([state]) => state in FILLS)
    .map(([state, steps]) => `${state} for ${minutes(steps)} min`);
  return `The last 24 hours: ${parts.length === 0 ? "off" : parts.join(", ")}`;
}

/** Last 24 hours as a band: flowing, holding, lagging, down. */
export function Timeline({ bands, stepSeconds }: { bands: readonly Band[]; stepSeconds: number }): ReactNode {
  const total = bands.reduce((sum, band) => sum + band.steps, 0);
  return (
    <svg
      role="img"
      aria-label={timelineText(bands, stepSeconds)}
      viewBox={`0 0 ${Math.max(1, total)} 9`}
      preserveAspectRatio="none"
      className="block h-[9px] w-full rounded-[3px] bg-hair"
    >
      {spans(bands)
        .filter((span) => span.state in FILLS)
        .map((span) => {
          const inset = INSETS[span.state] ?? 0;
          // A minute is less than a pixel: bands are at least two minutes wide.
          const width = INSETS[span.state] === INSETS.flowing ? span.steps : Math.max(span.steps, total / 600);
          const begin = Math.min(span.begin, total - width);
          return (
            <rect
              key={span.begin}
              x={begin}
              width={width}
              y={inset}
              height={9 - 2 * inset}
              className={FILLS[span.state]}
            />
          );
        })}
    </svg>
  );
}
