import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState, type ReactNode } from "react";

import { grouped } from "../../lib/format";
import { useSearchFilter } from "../../lib/useSearchFilter";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { SearchField } from "../../ui/Field";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { RecordNav } from "./components/RecordNav";
import { LogLines } from "./components/LogLines";
import type { LogFilter } from "./filter";
import { logbookQuery } from "./queries";

const STEP = 200;
const MAX_LIMIT = 10_000;

const KINDS = ["feed", "push", "relay", "destination", "uplink", "platform", "person", "token", "service"];
const SIDES = ["camera", "network", "platform", "ours", "planned"];
const SELECT = "rounded-md border border-edge bg-card px-2.5 py-2";

/** Logbook: states with their causes, and actions of people; the latest first. */
export function LogbookPage(): ReactNode {
  const search = useSearchFilter();
  const [limit, setLimit] = useState(STEP);
  const { get } = search;
  const set = (name: string, value: string) => {
    setLimit(STEP);
    search.set(name, value);
  };
  const about = useDeferredValue(get("about").trim());
  const filter: LogFilter = {
    limit,
    ...(about === "" ? {} : { about }),
    ...(get("kind") === "" ? {} : { kind: get("kind") }),
    ...(get("side") === "" ? {} : { side: get("side") }),
    ...(get("changes") === "" ? {} : { changes: get("changes") === "yes" }),
  };
  const lines = useQuery(logbookQuery(filter));
  return (
    <>
      <PageHead
        name="Logbook"
        title="Logbook"
        lead="Events with their fault domain, and changes by people. Newest first."
      />
      <RecordNav />
      <section aria-label="Filter" className="mb-3 flex flex-wrap items-center gap-3 print:hidden">
        <SearchField
          label="About a feed, a relay or a destination"
          placeholder="About: the name of a feed, relay, destination"
          value={get("about")}
          onChange={(about) => set("about", about)}
        />
        <select
          aria-label="Kind"
          value={get("kind")}
          onChange={(event) => set("kind", event.target.value)}
          className={SELECT}
        >
          <option value="">All kinds</option>
          {KINDS.map((kind) => (
            <option key={kind}>{kind}</option>
          ))}
        </select>
        <select
          aria-label="Side"
          value={get("side")}
          onChange={(event) => set("side", event.target.value)}
          className={SELECT}
        >
          <option value="">All fault domains</option>
          {SIDES.map((side) => (
            <option key={side}>{side}</option>
          ))}
        </select>
        <select
          aria-label="Origin"
          value={get("changes")}
          onChange={(event) => set("changes", event.target.value)}
          className={SELECT}
        >
          <option value="">Events and changes</option>
          <option value="yes">Changes by people</option>
          <option value="no">Events</option>
        </select>
      </section>
      <QueryBoundary query={lines} height={480}>
        {(data) => (
          <Card label="Lines">
            {data.length === 0 && <p className="text-quiet">No lines match this filter.</p>}
            <LogLines entries={data.toReversed()} />
            {data.length >= limit && limit < MAX_LIMIT && (
              <Button
                className="mt-3"
                disabled={lines.isFetching}
                onClick={() => setLimit(Math.min(MAX_LIMIT, limit * 2))}
              >
                Show older entries ({grouped(data.length)} shown)
              </Button>
            )}
          </Card>
        )}
      </QueryBoundary>
    </>
  );
}
