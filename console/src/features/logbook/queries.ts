import { infiniteQueryOptions, keepPreviousData, queryOptions, type QueryClient } from "@tanstack/react-query";

import { ask } from "../../api/client";
import type { AuditEntry, LogEntry, Report } from "../../api/types";
import { concerns, type LogFilter } from "./filter";

const logbookKey = ["logbook"] as const;
export const reportKey = ["report"] as const;

/** Lines of the logbook, oldest first: of those that are asked for, the latest. Events add what is written. */
export function logbookQuery(filter: LogFilter) {
  return queryOptions({
    queryKey: [...logbookKey, filter] as const,
    queryFn: () => ask<LogEntry[]>(["logbook"], filter),
    placeholderData: keepPreviousData,
    // Hidden queries are refetched when they are shown.
    staleTime: Infinity,
    gcTime: 60_000,
  });
}

/** Adds a line to every query that includes it, within its bounds. */
export function appendLogEntry(client: QueryClient, entry: LogEntry): void {
  for (const [key, known] of client.getQueriesData<LogEntry[]>({ queryKey: logbookKey })) {
    const filter = (key[1] ?? {}) as LogFilter;
    if (known !== undefined && concerns(filter, entry) && (known.at(-1)?.id ?? 0) < entry.id) {
      client.setQueryData<LogEntry[]>(key, [...known, entry].slice(-(filter.limit ?? 200)));
    }
  }
}

/** Entries of the audit trail in a page. */
const AUDIT_PAGE = 100;

/** Pages of the audit trail, the latest entries first. */
export function auditQuery(filter: { about: string; who: string; kind: string }) {
  return infiniteQueryOptions({
    queryKey: ["audit", filter] as const,
    queryFn: ({ pageParam }) => ask<AuditEntry[]>(["audit"], { ...filter, limit: AUDIT_PAGE, before: pageParam }),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => (page.length < AUDIT_PAGE ? undefined : page.at(-1)?.number),
    placeholderData: keepPreviousData,
    staleTime: 0,
  });
}

/** Availability over a month. */
export function reportQuery(month: string) {
  return queryOptions({
    queryKey: [...reportKey, month],
    queryFn: () => ask<Report>(["report"], { month }),
    placeholderData: keepPreviousData,
  });
}
