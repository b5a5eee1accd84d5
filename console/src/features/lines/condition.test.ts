import { expect, test } from "vitest";

import type { Relay } from "../../api/types";
import type { ConditionLevel, FeedPhase, PushPhase } from "../../lib/states";
import { cause, condition, feed, push, relay as sample } from "../../test/railway";
import { matches, notesOf, summaryOf, wordsOf, worstFirst } from "./condition";

const AWAY = cause();

function relay(name: string, level: ConditionLevel, state: FeedPhase, pushes: PushPhase[]): Relay {
  const why = (word: FeedPhase | PushPhase) => (word === "waiting" ? AWAY : null);
  return sample(name, {
    wanted: level === "off" ? "off" : "on",
    condition: condition({ level }),
    feed: feed({ name: `${name} cam`, state, cause: why(state) }),
    pushes: pushes.map((word, at) => push(`To ${at}`, { state: word, cause: why(word) })),
  });
}

test("the worst comes first, then names", () => {
  const relays = [
    relay("Well", "good", "flowing", ["live"]),
    relay("Off", "off", "off", ["off"]),
    relay("Bad", "blocked", "blocked", ["waiting"]),
    relay("Also well", "good", "flowing", ["live"]),
  ];
  expect(worstFirst(relays).map((each) => each.name)).toEqual(["Bad", "Also well", "Well", "Off"]);
});

test("relays that are held on purpose are counted by themselves", () => {
  const held = summaryOf([relay("A", "good", "flowing", ["live"]), relay("B", "holding", "flowing", ["holding"])]);
  expect(held.title).toBe("One line is held");
  expect(held.detail).toContain("1 of 2 relays are up, 1 held on purpose.");
});

test("the verdict counts what is wanted only", () => {
  const relays = [
    relay("A", "good", "flowing", ["live"]),
    relay("B", "down", "waiting", ["waiting"]),
    relay("C", "off", "off", ["off"]),
  ];
  expect(summaryOf(relays)).toEqual({
    title: "One line needs attention",
    detail: "1 of 2 relays are up. 2 pushes, 2\u202f000\u00a0kbit/s going out.",
  });
  expect(summaryOf([]).title).toBe("Everything is switched off");
});

test("a cause that pushes share with their feed is listed once", () => {
  const notes = notesOf(relay("A", "down", "waiting", ["waiting", "waiting"]));
  expect(notes).toHaveLength(1);
  expect(notes[0]?.about).toEqual(["A cam", "To 0", "To 1"]);
});

test("a search finds relays, feeds and destinations", () => {
  const one = relay("Summit", "good", "flowing", ["live"]);
  expect(matches(one, "summ cam")).toBe(true);
  expect(matches(one, "to 0")).toBe(true);
  expect(matches(one, "viaduct")).toBe(false);
  expect(matches(one, "")).toBe(true);
});

test("a hold that was asked for says that viewers still see the feed", () => {
  const asked = { ...relay("A", "starting", "flowing", ["live"]), wanted: "hold" as const };
  expect(wordsOf(asked)).toBe("hold requested, viewers still see the feed");
  expect(wordsOf(relay("A", "holding", "flowing", ["holding"]))).toBe("held on purpose");
});
