import type { ReactNode } from "react";

import { Pennant, stateOf, toneOf } from "./Pennant";

/** A state: its pennant and its word. */
export function State({ word, size = 20 }: { word: string; size?: number }): ReactNode {
  const state = stateOf(word);
  return (
    <span className="inline-flex items-center gap-1.5 whitespace-nowrap">
      <Pennant state={state} size={size} />
      <span className={`text-[13px] font-semibold ${toneOf(state)}`}>{word}</span>
    </span>
  );
}
