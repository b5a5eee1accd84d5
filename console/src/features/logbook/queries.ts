import { keepPreviousData, queryOptions, type QueryClient } from "@tanstack/react-query";

import { ask } from "../../api/client";
import type { LogEntry, Report } from "../../api/types";
import { concerns, type LogFilter } from "./filter";

const logbookKey = ["logbook"] as const;
export const reportKey = ["report"] as const;

/** Lines of the logbook, oldest first: of those that are asked for, the latest. Events add what is written. */
export function logbookQuery(filter: LogFilter) {
  return queryOptions({
    queryKey: [...logbookKey, filter] as const,
    queryFn: () => ask<LogEntry[]>(["logbook"], filter),
    placeholderData: keepPreviousData,
    // What was not looked at meanwhile is read anew.
    staleTime: Infinity,
    gcTime: 60_000,
  });
}

/** Adds a line wherever it is asked for, within the bounds of what was asked. */
export function keepLine(client: QueryClient, entry: LogEntry): void {
  for (const [key, known] of client.getQueriesData<LogEntry[]>({ queryKey: logbookKey })) {
    const filter = (key[1] ?? {}) as LogFilter;
    if (known !== undefined && concerns(filter, entry) && (known.at(-1)?.id ?? 0) < entry.id) {
      client.setQueryData<LogEntry[]>(key, [...known, entry].slice(-(filter.most ?? 200)));
    }
  }
}

/** What was up and what was down over a month. */
export function reportQuery(month: string) {
  return queryOptions({
    queryKey: [...reportKey, month],
    queryFn: () => ask<Report>(["report"], { month }),
    placeholderData: keepPreviousData,
  });
}
