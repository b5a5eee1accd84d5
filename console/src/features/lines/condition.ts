import type { CauseFacts, PushState, Relay } from "../../api/types";
import { countText, rate } from "../../lib/format";
import {
  isGood,
  isHeld,
  isHolding,
  isOff,
  isStarting,
  needsAttention,
  severity,
  type ConditionLevel,
  type FaultDomain,
} from "../../lib/states";

/** Headline of each level. */
export const LEVEL_WORDS: Record<ConditionLevel, string> = {
  blocked: "needs a person",
  down: "down",
  degraded: "not as wanted",
  starting: "starting",
  holding: "held on purpose",
  good: "as it should be",
  off: "off",
};

/** The condition of a relay in words. */
export function wordsOf(relay: Relay): string {
  const isBeingHeld = isHeld(relay.wanted) && isStarting(relay.condition.level);
  return isBeingHeld ? "hold requested, viewers still see the feed" : LEVEL_WORDS[relay.condition.level];
}

export function levelOf(relay: Relay): ConditionLevel {
  return relay.condition.level;
}

export function worstFirst(relays: readonly Relay[]): Relay[] {
  return [...relays].sort((a, b) => severity(levelOf(b)) - severity(levelOf(a)) || a.name.localeCompare(b.name));
}

export type Verdict = { title: string; detail: string };

/** The page's answer to "is everything up?". */
export function summaryOf(relays: readonly Relay[]): Verdict {
  const wanted = relays.filter((relay) => !isOff(relay.wanted));
  const count = (is: (level: ConditionLevel) => boolean) => wanted.filter((relay) => is(levelOf(relay))).length;
  const affected = count(needsAttention);
  const coming = count(isStarting);
  const well = count(isGood);
  const held = count(isHolding);
  const pushes = wanted.flatMap((relay) => relay.pushes);
  const kbps = pushes.reduce((sum, push) => sum + push.kbps, 0);
  const detail =
    wanted.length === 0
      ? "No relay is switched on."
      : `${well} of ${wanted.length} relays are up${held > 0 ? `, ${held} held on purpose` : ""}. ${pushes.length} ${pushes.length === 1 ? "push" : "pushes"}, ${rate(kbps)} going out.`;
  if (affected > 0) {
    return { title: `${countText(affected)} ${affected === 1 ? "line needs" : "lines need"} attention`, detail };
  }
  if (coming > 0) {
    return { title: `${countText(coming)} ${coming === 1 ? "line is" : "lines are"} starting`, detail };
  }
  if (held > 0) {
    return { title: `${countText(held)} ${held === 1 ? "line is" : "lines are"} held`, detail };
  }
  return { title: wanted.length === 0 ? "Everything is switched off" : "All lines are up", detail };
}

/** A relay matches when all words occur somewhere in its names. */
export function matches(relay: Relay, search: string): boolean {
  const names = [relay.name, relay.feed.name, relay.site ?? "", ...relay.pushes.map((push) => push.destination)];
  const text = names.join(" ").toLowerCase();
  return search
    .toLowerCase()
    .split(/\s+/)
    .every((word) => text.includes(word));
}

export type Note = { cause: CauseFacts; about: string[] };

/** Causes of a relay, each once, with the parts that have it. */
export function notesOf(relay: Relay): Note[] {
  const notes: Note[] = [];
  const take = (cause: CauseFacts | null | undefined, name: string) => {
    if (cause === null || cause === undefined) {
      return;
    }
    const known = notes.find((note) => note.cause.code === cause.code && note.cause.message === cause.message);
    if (known !== undefined) {
      known.about.push(name);
    } else {
      notes.push({ cause, about: [name] });
    }
  };
  take(relay.feed.cause, relay.feed.name);
  relay.pushes.forEach((push) => take(push.cause, push.destination));
  return notes;
}

const FAULT_DOMAINS: Record<FaultDomain, string> = {
  camera: "Camera side.",
  network: "Network side.",
  platform: "Platform side.",
  ours: "Our side.",
  planned: "Planned.",
};

export function faultDomainText(cause: CauseFacts): string {
  return FAULT_DOMAINS[cause.side];
}

/** The last step that a dial has reached, in words. */
export function progressOf(push: PushState): string {
  return push.steps.at(-1)?.name ?? "resolving the name";
}
