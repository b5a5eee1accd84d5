/** The months that the record goes back, the latest first, like `2026-11`; in UTC, as the record counts them. */
export function months(now: Date, count: number = 13): string[] {
  return Array.from({ length: count }, (_, back) => {
    const month = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() - back, 1));
    return month.toISOString().slice(0, 7);
  });
}

/** Formats a month. */
export function monthText(month: string): string {
  return new Date(`${month}-01T00:00:00Z`).toLocaleDateString("en-GB", {
    month: "long",
    year: "numeric",
    timeZone: "UTC",
  });
}
