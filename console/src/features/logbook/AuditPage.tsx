import { useInfiniteQuery } from "@tanstack/react-query";
import { useDeferredValue, type ReactNode } from "react";

import type { AuditEntry } from "../../api/types";
import { moment } from "../../lib/format";
import { useSearchFilter } from "../../lib/useSearchFilter";
import { Button } from "../../ui/Button";
import { Card } from "../../ui/Card";
import { Empty } from "../../ui/Empty";
import { SearchField } from "../../ui/Field";
import { QueryBoundary } from "../../ui/QueryBoundary";
import { PageHead } from "../../ui/Page";
import { useMay } from "../session";
import { RecordNav } from "./components/RecordNav";
import { auditQuery } from "./queries";

const KINDS = [
  "relay",
  "feed",
  "destination",
  "uplink",
  "platform",
  "pattern",
  "alert",
  "contact",
  "person",
  "token",
  "service",
];
const ORIGINS: Record<string, string> = {
  console: "console",
  "command-line": "command line",
  api: "API",
  "site-book": "site book",
  schedule: "schedule",
};
const SELECT = "rounded-md border border-edge bg-card px-2.5 py-2";

/** Audit trail: every change, with who made it, from where, and what was there before and after. */
export function AuditPage(): ReactNode {
  const isAllowed = useMay("admin");
  return (
    <>
      <PageHead
        name="Audit trail"
        title="Audit trail"
        lead="Every change with its author, origin, and the values before and after."
      />
      <RecordNav />
      {isAllowed ? (
        <Entries />
      ) : (
        <Empty title="For admins only">Your role does not include the audit trail. Ask an admin about a change.</Empty>
      )}
    </>
  );
}

function Entries(): ReactNode {
  const { get, set } = useSearchFilter();
  const about = useDeferredValue(get("about").trim());
  const who = useDeferredValue(get("who").trim());
  const query = useInfiniteQuery(auditQuery({ about, who, kind: get("kind") }));
  return (
    <>
      <section aria-label="Filter" className="mb-3 flex flex-wrap items-center gap-3 print:hidden">
        <SearchField
          label="About a record"
          placeholder="About: name or id"
          value={get("about")}
          onChange={(text) => set("about", text)}
        />
        <SearchField
          label="By a person or token"
          placeholder="By: person or token"
          value={get("who")}
          onChange={(text) => set("who", text)}
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
      </section>
      <QueryBoundary query={query} height={480}>
        {(data) => {
          const entries = data.pages.flat();
          return (
            <Card label="Changes">
              {entries.length === 0 && <p className="text-quiet">No changes match this filter.</p>}
              <ol className="text-[13px]">
                {entries.map((entry) => (
                  <Change key={entry.number} entry={entry} />
                ))}
              </ol>
              {query.hasNextPage && (
                <Button className="mt-3" disabled={query.isFetchingNextPage} onClick={() => void query.fetchNextPage()}>
                  Show older changes
                </Button>
              )}
            </Card>
          );
        }}
      </QueryBoundary>
    </>
  );
}

/** Change of a field. Of secrets only the fact is known; a new record has no value before. */
function fieldChange(action: string, { before, after }: AuditEntry["fields"][number]): string {
  if (before == null && after == null) {
    return "set";
  }
  return action === "added" ? (after ?? "none") : `${before ?? "none"} → ${after ?? "none"}`;
}

function Change({ entry }: { entry: AuditEntry }): ReactNode {
  const origin = ORIGINS[entry.origin] ?? entry.origin;
  return (
    <li className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-3 border-b border-hair py-1.5 last:border-0 sm:grid-cols-[100px_280px_minmax(0,1fr)]">
      <time dateTime={entry.at} className="order-2 text-quiet sm:order-none">
        {moment(entry.at)}
      </time>
      <span className="min-w-0 truncate">
        <span className="text-quiet">{entry.kind} </span>
        {entry.name}
      </span>
      <div className="order-3 col-span-2 min-w-0 sm:order-none sm:col-span-1">
        <p>
          <strong className="font-semibold">{entry.action.replaceAll("-", " ")}</strong> by {entry.who}
          <span className="text-quiet">
            {" "}
            · {origin}
            {entry.address != null && `, ${entry.address}`}
          </span>
        </p>
        {entry.fields.length > 0 && (
          <ul className="text-quiet">
            {entry.fields.map((field) => (
              <li key={field.field} className="break-words">
                {field.field}: {fieldChange(entry.action, field)}
              </li>
            ))}
          </ul>
        )}
      </div>
    </li>
  );
}
