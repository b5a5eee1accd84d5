import type { LogEntry } from "../../api/types";

/** Filter of the logbook. */
export type LogFilter = {
  about?: string;
  kind?: string;
  side?: string;
  /** Only changes by people, or only events. */
  changes?: boolean;
  limit?: number;
};

/** Returns true if an entry matches the filter. */
export function concerns(filter: LogFilter, entry: LogEntry): boolean {
  const about = filter.about?.toLowerCase() ?? "";
  const names = [entry.name, entry.part ?? ""].map((name) => name.toLowerCase());
  return (
    (about === "" || names.includes(about)) &&
    (filter.kind === undefined || filter.kind === entry.kind) &&
    (filter.side === undefined || filter.side === entry.side) &&
    (filter.changes === undefined || filter.changes === (entry.who != null))
  );
}
