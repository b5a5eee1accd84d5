/** A cell of comma-separated values (RFC 4180). What a spreadsheet would take for a formula is written as text. */
function cell(value: string | number | null | undefined): string {
  const text = String(value ?? "");
  const safe = typeof value === "string" && /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

export type Row = readonly (string | number | null | undefined)[];

/** A table as comma-separated values. */
export function csv(head: readonly string[], rows: readonly Row[]): string {
  return [head, ...rows].map((row) => row.map(cell).join(",") + "\r\n").join("");
}

/** Downloads a file. */
export function saveFile(name: string, content: Blob): void {
  const address = URL.createObjectURL(content);
  const link = document.createElement("a");
  link.href = address;
  link.download = name;
  link.click();
  // Not at once: the browser may not have begun to read it.
  setTimeout(() => URL.revokeObjectURL(address), 10_000);
}
