import type { CauseFacts, PushState, Relay } from "../../api/types";
import { inWords, rate } from "../../lib/format";
import { stateOf, type StateWord } from "../../ui/Pennant";

/** How much a relay wants attention; smaller is worse. */
export type Rank = 0 | 1 | 2 | 3 | 4;

const BLOCKED: Rank = 0;
const TROUBLED: Rank = 1;
const ON_ITS_WAY: Rank = 2;
const WELL: Rank = 3;
const OFF: Rank = 4;

function statesOf(relay: Relay): StateWord[] {
  return [relay.feed.state, ...relay.pushes.map((push) => push.state)].map(stateOf);
}

/** Something is dialled once more because it failed: that is trouble, and no way to the air. */
function dialsAgain(relay: Relay): boolean {
  return [relay.feed, ...relay.pushes].some((each) => each.state === "dialing" && each.cause != null);
}

export function rankOf(relay: Relay): Rank {
  if (relay.wanted === "off") {
    return OFF;
  }
  const states = statesOf(relay);
  if (states.includes("blocked")) {
    return BLOCKED;
  }
  if (states.some((state) => state === "stalled" || state === "lagging" || state === "waiting") || dialsAgain(relay)) {
    return TROUBLED;
  }
  // What a person holds on purpose is as it should be.
  const held: StateWord = relay.wanted === "hold" ? "holding" : "live";
  return states.every((state) => state === "flowing" || state === "live" || state === held) ? WELL : ON_ITS_WAY;
}

/** The one pennant that stands for a relay in the filter. */
export type Mood = "blocked" | "stalled" | "dialing" | "flowing" | "off";

const MOODS: Record<Rank, Mood> = { 0: "blocked", 1: "stalled", 2: "dialing", 3: "flowing", 4: "off" };

export const MOOD_WORDS: Record<Mood, string> = {
  blocked: "need a person",
  stalled: "in trouble",
  dialing: "on their way",
  flowing: "as they should be",
  off: "off",
};

export function moodOf(relay: Relay): Mood {
  return MOODS[rankOf(relay)];
}

export function worstFirst(relays: readonly Relay[]): Relay[] {
  return [...relays].sort((a, b) => rankOf(a) - rankOf(b) || a.name.localeCompare(b.name));
}

export type Verdict = { title: string; detail: string };

/** The page's answer to "is everything up?". */
export function verdictOf(relays: readonly Relay[]): Verdict {
  const wanted = relays.filter((relay) => relay.wanted !== "off");
  const troubled = wanted.filter((relay) => rankOf(relay) <= TROUBLED).length;
  const coming = wanted.filter((relay) => rankOf(relay) === ON_ITS_WAY).length;
  const well = wanted.length - troubled - coming;
  const pushes = wanted.flatMap((relay) => relay.pushes);
  const kbps = pushes.reduce((sum, push) => sum + push.kbps, 0);
  const detail =
    wanted.length === 0
      ? "No relay is switched on."
      : `${well} of ${wanted.length} relays flow as they should. ${pushes.length} ${pushes.length === 1 ? "push" : "pushes"}, ${rate(kbps)} going out.`;
  if (troubled > 0) {
    return { title: `${inWords(troubled)} ${troubled === 1 ? "line wants" : "lines want"} attention`, detail };
  }
  if (coming > 0) {
    return { title: `${inWords(coming)} ${coming === 1 ? "line is" : "lines are"} on the way`, detail };
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

/** What is wrong with a relay: each cause once, with whom it concerns. */
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

const SIDES: Record<string, string> = {
  camera: "Camera side.",
  network: "Network side.",
  platform: "Platform side.",
  ours: "Our side.",
  planned: "Planned.",
};

export function sideWords(cause: CauseFacts): string {
  return SIDES[cause.side] ?? "Our side.";
}

/** The last step that a dial has reached, in words. */
export function progressOf(push: PushState): string {
  return push.steps.at(-1)?.name ?? "finding the name";
}
