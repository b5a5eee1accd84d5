import type { ReactNode } from "react";

import { isDialing, isUp, type DialStepName, type FeedPhase, type PushPhase } from "../../../lib/states";
import type { DialStep } from "../../../api/types";
import { useNow } from "../../../lib/clock";
import { duration, grouped } from "../../../lib/format";

type Props = {
  steps: readonly DialStep[];
  /** All steps of such a dial, in order. */
  expected: readonly DialStepName[];
  /** The last line: what it comes to. */
  end: string;
  state: FeedPhase | PushPhase;
  since: string | null | undefined;
};

function elapsed(milliseconds: number): string {
  return milliseconds < 1000 ? `${grouped(milliseconds)} ms` : `${(milliseconds / 1000).toFixed(1)} s`;
}

/** A dial step by step: what was reached after how long, what it waits for, what is still to come. */
export function DialSteps({ steps, expected, end, state, since }: Props): ReactNode {
  const now = useNow();
  const reached = steps.at(-1)?.name;
  const coming = isUp(state) ? [] : expected.slice(reached === undefined ? 0 : expected.indexOf(reached) + 1);
  const age = since == null ? 0 : now - Date.parse(since);
  return (
    <ol aria-label="Connection steps" className="text-[13px]">
      {steps.map((step) => (
        <Step key={step.name} kind="done" name={step.name} time={elapsed(step.after_ms)} />
      ))}
      {isDialing(state) &&
        coming.map((name, at) => (
          <Step
            key={name}
            kind={at === 0 ? "now" : "coming"}
            name={name}
            time={at === 0 ? `${(age / 1000).toFixed(0)} s` : ""}
          />
        ))}
      {isUp(state) && <Step kind="end" name={end} time={duration(age)} />}
    </ol>
  );
}

const DOTS = {
  done: "border-flow bg-flow",
  end: "border-flow bg-flow",
  now: "border-wait bg-card",
  coming: "border-edge bg-card",
} as const;
const WORDS = {
  done: "text-quiet",
  end: "font-[650] text-flow",
  now: "font-[650] text-wait",
  coming: "text-quiet",
} as const;

function Step({ kind, name, time }: { kind: keyof typeof DOTS; name: string; time: string }): ReactNode {
  return (
    <li
      {...(kind === "now" ? { "aria-current": "step" as const } : {})}
      className={`relative flex justify-between gap-3 py-px pl-4 before:absolute before:inset-y-0 before:left-[3px] before:border-l-2 first:before:top-2 last:before:bottom-2 ${kind === "coming" || kind === "now" ? "before:border-hair" : "before:border-flow"} ${WORDS[kind]}`}
    >
      <i className={`absolute top-[6px] left-0 size-2 rounded-full border-2 ${DOTS[kind]}`} />
      <span>
        {name}
        {kind === "coming" && <span className="sr-only"> (to come)</span>}
      </span>
      <span className="whitespace-nowrap">{time}</span>
    </li>
  );
}
