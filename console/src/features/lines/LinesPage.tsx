import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useMemo, useState, type ReactNode } from "react";

import type { Band, Relay } from "../../api/types";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { LineList } from "./components/LineList";
import { NoLines } from "./components/NoLines";
import { FilterBar, type Filter } from "./components/FilterBar";
import { UplinkGlance } from "./components/UplinkGlance";
import { levelOf, matches, summaryOf, worstFirst } from "./condition";
import { dayQuery, relaysQuery } from "./queries";

/** The home page: is everything up, and if not, what broke, whose side, what to do. */
export function LinesPage(): ReactNode {
  const relays = useQuery(relaysQuery());
  return (
    <QueryBoundary query={relays} height={480}>
      {(data) => (data.length === 0 ? <Nothing /> : <Lines relays={data} />)}
    </QueryBoundary>
  );
}

function Nothing(): ReactNode {
  return (
    <>
      <PageHead name="Lines" title="Lines" />
      <NoLines />
    </>
  );
}

function Lines({ relays }: { relays: readonly Relay[] }): ReactNode {
  const [filter, setFilter] = useState<Filter>({ search: "", level: null, site: "" });
  const search = useDeferredValue(filter.search);
  const day = useQuery(dayQuery());
  const days = useMemo(
    () => new Map<string, readonly Band[]>((day.data?.relays ?? []).map((each) => [each.name, each.bands])),
    [day.data],
  );
  const verdict = summaryOf(relays);
  const shown = worstFirst(relays).filter(
    (relay) =>
      matches(relay, search) &&
      (filter.level === null || levelOf(relay) === filter.level) &&
      (filter.site === "" || relay.site === filter.site),
  );
  return (
    <>
      <PageHead name={verdict.title} title={verdict.title} lead={verdict.detail} actions={<UplinkGlance />} />
      <FilterBar relays={relays} filter={filter} onFilter={setFilter} />
      {shown.length === 0 && <p className="py-6 text-quiet">No lines match this filter.</p>}
      <LineList relays={shown} days={days} stepSeconds={day.data?.step_s ?? 60} />
    </>
  );
}
