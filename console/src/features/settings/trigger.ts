/** Condition of an alert rule; the service reads and writes it as one line of text. */
export type TriggerKind = "down" | "blocked" | "rate-below" | "rate-above" | "key-expires" | "allowance" | "flapping";

export type Blanks = { rate: string; time: string; days: string; share: string; times: string };

export const DEFAULT_BLANKS: Blanks = { rate: "500kbit/s", time: "60s", days: "7", share: "80", times: "5" };

/** Conditions with their fields. */
export const KINDS: readonly { kind: TriggerKind; label: string; blanks: readonly (keyof Blanks)[] }[] = [
  { kind: "down", label: "a feed or a push is down for", blanks: ["time"] },
  { kind: "blocked", label: "something is blocked", blanks: [] },
  { kind: "rate-below", label: "a push sends less than", blanks: ["rate", "time"] },
  { kind: "rate-above", label: "a push sends more than", blanks: ["rate", "time"] },
  { kind: "key-expires", label: "a stream key expires within days", blanks: ["days"] },
  { kind: "allowance", label: "an uplink’s month will need % of its allowance", blanks: ["share"] },
  { kind: "flapping", label: "something fails repeatedly", blanks: ["times", "time"] },
];

/** Formats a condition for the API. */
export function writeTrigger(kind: TriggerKind, blanks: Blanks): string {
  switch (kind) {
    case "down":
      return `down ${blanks.time}`;
    case "blocked":
      return "blocked";
    case "rate-below":
    case "rate-above":
      return `${kind} ${blanks.rate} ${blanks.time}`;
    case "key-expires":
      return `key-expires ${blanks.days}d`;
    case "allowance":
      return `allowance ${blanks.share}%`;
    case "flapping":
      return `flapping ${blanks.times} in ${blanks.time}`;
  }
}

/** Parses a condition; unknown ones give the defaults. */
export function readTrigger(line: string): { kind: TriggerKind; blanks: Blanks } {
  const parts = line.split(/\s+/);
  const kind = KINDS.find((each) => each.kind === parts[0])?.kind ?? "down";
  const part = (at: number, fallback: string) => parts[at] ?? fallback;
  switch (kind) {
    case "down":
      return { kind, blanks: { ...DEFAULT_BLANKS, time: part(1, DEFAULT_BLANKS.time) } };
    case "blocked":
      return { kind, blanks: DEFAULT_BLANKS };
    case "rate-below":
    case "rate-above":
      return {
        kind,
        blanks: { ...DEFAULT_BLANKS, rate: part(1, DEFAULT_BLANKS.rate), time: part(2, DEFAULT_BLANKS.time) },
      };
    case "key-expires":
      return { kind, blanks: { ...DEFAULT_BLANKS, days: part(1, DEFAULT_BLANKS.days).replace(/d$/, "") } };
    case "allowance":
      return { kind, blanks: { ...DEFAULT_BLANKS, share: part(1, DEFAULT_BLANKS.share).replace(/%$/, "") } };
    case "flapping":
      return { kind, blanks: { ...DEFAULT_BLANKS, times: part(1, DEFAULT_BLANKS.times), time: part(3, "10m") } };
  }
}
