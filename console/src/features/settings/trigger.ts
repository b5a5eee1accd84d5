/** Condition of an alert rule; the service reads and writes it as one line of text. */
export type TriggerKind = "down" | "blocked" | "rate-below" | "rate-above" | "key-expires" | "allowance" | "flapping";

export type Blanks = { rate: string; time: string; days: string; share: string; times: string };

export const USUAL: Blanks = { rate: "500kbit/s", time: "60s", days: "7", share: "80", times: "5" };

/** Each kind in words, with the blanks that it has. */
export const KINDS: readonly { kind: TriggerKind; label: string; blanks: readonly (keyof Blanks)[] }[] = [
  { kind: "down", label: "a feed or a push is down for", blanks: ["time"] },
  { kind: "blocked", label: "something needs a person", blanks: [] },
  { kind: "rate-below", label: "a push sends less than", blanks: ["rate", "time"] },
  { kind: "rate-above", label: "a push sends more than", blanks: ["rate", "time"] },
  { kind: "key-expires", label: "a stream key expires within days", blanks: ["days"] },
  { kind: "allowance", label: "an uplink’s month will need % of its allowance", blanks: ["share"] },
  { kind: "flapping", label: "something comes back again and again", blanks: ["times", "time"] },
];

/** The line for the service. */
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

/** Reads the service's line; one that is not known leaves the usual blanks. */
export function readTrigger(line: string): { kind: TriggerKind; blanks: Blanks } {
  const words = line.split(/\s+/);
  const kind = KINDS.find((each) => each.kind === words[0])?.kind ?? "down";
  const word = (at: number, usual: string) => words[at] ?? usual;
  switch (kind) {
    case "down":
      return { kind, blanks: { ...USUAL, time: word(1, USUAL.time) } };
    case "blocked":
      return { kind, blanks: USUAL };
    case "rate-below":
    case "rate-above":
      return { kind, blanks: { ...USUAL, rate: word(1, USUAL.rate), time: word(2, USUAL.time) } };
    case "key-expires":
      return { kind, blanks: { ...USUAL, days: word(1, USUAL.days).replace(/d$/, "") } };
    case "allowance":
      return { kind, blanks: { ...USUAL, share: word(1, USUAL.share).replace(/%$/, "") } };
    case "flapping":
      return { kind, blanks: { ...USUAL, times: word(1, USUAL.times), time: word(3, "10m") } };
  }
}
