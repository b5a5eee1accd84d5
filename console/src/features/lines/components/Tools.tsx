import type { ReactNode } from "react";

import type { Relay } from "../../../api/types";
import { Pennant } from "../../../ui/Pennant";
import { Tooltip } from "../../../ui/Tooltip";
import { MOOD_WORDS, moodOf, type Mood } from "../judge";

/** What the lines of a mood do, for those who hear the filter instead of seeing it. */
const LABELS: Record<Mood, string> = {
  blocked: "need a person",
  stalled: "are in trouble",
  dialing: "are on their way",
  flowing: "are as they should be",
  off: "are off",
};

const MOODS: readonly Mood[] = ["blocked", "stalled", "dialing", "flowing", "off"];

type Props = {
  relays: readonly Relay[];
  search: string;
  onSearch: (text: string) => void;
  mood: Mood | null;
  onMood: (mood: Mood | null) => void;
};

const CHIP =
  "inline-flex items-center gap-1 rounded-md border px-1.5 py-[5px] sm:gap-1.5 sm:px-2.5 text-[13px] font-semibold aria-pressed:border-ink aria-pressed:bg-ink aria-pressed:text-paper border-hair text-quiet hover:border-edge";

/** Search and filter, with a count for every mood. */
export function Tools({ relays, search, onSearch, mood, onMood }: Props): ReactNode {
  return (
    <section aria-label="Filter" className="mb-3 flex flex-wrap items-center gap-3">
      <input
        type="search"
        aria-label="Find a line or a destination"
        placeholder="Find a line or a destination"
        value={search}
        onChange={(event) => onSearch(event.target.value)}
        className="w-full rounded-md border border-hair bg-card px-3 py-2 placeholder:text-quiet sm:w-[290px]"
      />
      <div className="flex flex-wrap gap-1.5">
        <button type="button" className={CHIP} aria-pressed={mood === null} onClick={() => onMood(null)}>
          Worst first
        </button>
        {MOODS.map((each) => {
          const count = relays.filter((relay) => moodOf(relay) === each).length;
          const words = `${count} ${MOOD_WORDS[each]}`;
          return (
            <Tooltip key={each} text={words}>
              <button
                type="button"
                className={CHIP}
                aria-pressed={mood === each}
                aria-label={`Show only the lines that ${LABELS[each]}: ${count}`}
                onClick={() => onMood(mood === each ? null : each)}
              >
                <Pennant state={each} size={16} />
                {count}
              </button>
            </Tooltip>
          );
        })}
      </div>
    </section>
  );
}
