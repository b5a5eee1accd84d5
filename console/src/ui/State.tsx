import type { ReactNode } from "react";

import { Pennant, toneOf, type StateName } from "./Pennant";

/** State with its pennant. */
export function State({ word, size = 20 }: { word: StateName; size?: number }): ReactNode {
  return (
    <span className="inline-flex items-center gap-1.5 whitespace-nowrap">
      <Pennant state={word} size={size} />
      <span className={`text-[13px] font-semibold ${toneOf(word)}`}>{word}</span>
    </span>
  );
}
