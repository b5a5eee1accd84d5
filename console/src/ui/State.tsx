import type { ReactNode } from "react";

import { Pennant, toneOf, type StateWord } from "./Pennant";

/** A state: its pennant and its word. */
export function State({ word, size = 20 }: { word: StateWord; size?: number }): ReactNode {
  return (
    <span className="inline-flex items-center gap-1.5 whitespace-nowrap">
      <Pennant state={word} size={size} />
      <span className={`text-[13px] font-semibold ${toneOf(word)}`}>{word}</span>
    </span>
  );
}
