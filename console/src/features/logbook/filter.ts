import type { LogEntry } from "../../api/types";

/** Which lines of the logbook are asked for. */
export type LogFilter = {
  about?: string;
  kind?: string;
  side?: string;
  /** Only what people did, or only what happened by itself. */
  changes?: boolean;
  limit?: number;
};

/** Whether a line is one of those that are asked for. */
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
