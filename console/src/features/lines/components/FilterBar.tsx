import type { ReactNode } from "react";

import type { Relay } from "../../../api/types";
import { SearchField } from "../../../ui/Field";
import { Pennant, pennantOf } from "../../../ui/Pennant";
import { Tooltip } from "../../../ui/Tooltip";
import { WORST_FIRST, type ConditionLevel } from "../../../lib/states";
import { LEVEL_WORDS, levelOf } from "../condition";

/** Names of the filters for screen readers. */
const LABELS: Record<ConditionLevel, string> = {
  blocked: "need attention",
  down: "are down",
  degraded: "are not as wanted",
  starting: "are starting",
  holding: "are held on purpose",
  good: "are up",
  off: "are off",
};

/** Filter of lines. */
export type Filter = { search: string; level: ConditionLevel | null; site: string };

type Props = { relays: readonly Relay[]; filter: Filter; onFilter: (filter: Filter) => void };

const CHIP =
  "inline-flex items-center gap-1 rounded-md border px-1.5 py-[5px] sm:gap-1.5 sm:px-2.5 text-[13px] font-semibold aria-pressed:border-ink aria-pressed:bg-ink aria-pressed:text-paper border-hair text-quiet hover:border-edge";

/** Search and filters with counts. */
export function FilterBar({ relays, filter, onFilter }: Props): ReactNode {
  const counts = new Map<ConditionLevel, number>();
  relays.forEach((relay) => counts.set(levelOf(relay), (counts.get(levelOf(relay)) ?? 0) + 1));
  const sites = [...new Set(relays.map((relay) => relay.site).filter((site) => site != null))].sort();
  return (
    <section aria-label="Filter" className="mb-3 flex flex-wrap items-center gap-3">
      <SearchField
        label="Find a line, a site, a destination"
        value={filter.search}
        onChange={(search) => onFilter({ ...filter, search })}
      />
      {sites.length > 1 && (
        <select
          aria-label="Site"
          value={filter.site}
          onChange={(event) => onFilter({ ...filter, site: event.target.value })}
          className="rounded-md border border-edge bg-card px-2.5 py-2"
        >
          <option value="">All sites</option>
          {sites.map((site) => (
            <option key={site}>{site}</option>
          ))}
        </select>
      )}
      <div className="flex flex-wrap gap-1.5">
        <button
          type="button"
          className={CHIP}
          aria-pressed={filter.level === null}
          onClick={() => onFilter({ ...filter, level: null })}
        >
          Worst first
        </button>
        {WORST_FIRST.map((each) => {
          const count = counts.get(each) ?? 0;
          return (
            <Tooltip key={each} text={`${count} ${LEVEL_WORDS[each]}`}>
              <button
                type="button"
                className={CHIP}
                aria-pressed={filter.level === each}
                aria-label={`Show only the lines that ${LABELS[each]}: ${count}`}
                onClick={() => onFilter({ ...filter, level: filter.level === each ? null : each })}
              >
                <Pennant state={pennantOf(each)} size={16} />
                {count}
              </button>
            </Tooltip>
          );
        })}
      </div>
      <Axis />
    </section>
  );
}

/** Time axis of the last 24 hours. */
function Axis(): ReactNode {
  const hours = [24, 18, 12, 6];
  const clock = (back: number) =>
    new Date(Date.now() - back * 3_600_000).toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
  return (
    <p className="ml-auto hidden text-xs text-quiet xl:block" aria-hidden="true">
      <b className="mr-2 font-semibold text-ink">last 24 h</b>
      {hours.map((back) => (
        <span key={back} className="ml-2">
          {clock(back)}
        </span>
      ))}
      <span className="ml-2">now</span>
    </p>
  );
}
