import { expect, test } from "vitest";

import type { Relay } from "../../api/types";
import { cause, feed, push, relay as sample } from "../../test/railway";
import { matches, moodOf, notesOf, verdictOf, worstFirst } from "./judge";

const AWAY = cause();

function relay(name: string, state: string, pushes: string[], wanted = "on"): Relay {
  const why = (word: string) => (word === "waiting" ? AWAY : null);
  return sample(name, {
    wanted,
    feed: feed({ name: `${name} cam`, state, cause: why(state) }),
    pushes: pushes.map((word, at) => push(`To ${at}`, { state: word, cause: why(word) })),
  });
}

test.each([
  ["flowing", ["live", "live"], "flowing"],
  ["flowing", ["live", "blocked"], "blocked"],
  ["waiting", ["waiting"], "stalled"],
  ["flowing", ["dialing"], "dialing"],
  ["flowing", ["lagging"], "stalled"],
])("a feed that is %s with pushes %j is %s", (feed, states, mood) => {
  expect(moodOf(relay("A", feed, states))).toBe(mood);
});

test("a first dial is on its way, one after a failure is trouble", () => {
  expect(moodOf(relay("A", "dialing", ["waiting"], "on"))).toBe("stalled");
  expect(moodOf(sample("A", { feed: feed({ state: "dialing" }), pushes: [push("One", { state: "dialing" })] }))).toBe("dialing");
  expect(moodOf(sample("A", { feed: feed({ state: "dialing", cause: AWAY }), pushes: [push("One", { state: "holding" })] }))).toBe("stalled");
});

test("the worst comes first, then names", () => {
  const relays = [
    relay("Well", "flowing", ["live"]),
    relay("Off", "off", ["off"], "off"),
    relay("Bad", "blocked", ["waiting"]),
    relay("Also well", "flowing", ["live"]),
  ];
  expect(worstFirst(relays).map((each) => each.name)).toEqual(["Bad", "Also well", "Well", "Off"]);
});

test("what is held on purpose is as it should be, what is held for want of a camera is not", () => {
  expect(moodOf(relay("Held", "flowing", ["holding"], "hold"))).toBe("flowing");
  expect(moodOf(relay("Away", "waiting", ["holding"]))).toBe("stalled");
});

test("the verdict counts what is wanted only", () => {
  const relays = [relay("A", "flowing", ["live"]), relay("B", "waiting", ["waiting"]), relay("C", "off", ["off"], "off")];
  expect(verdictOf(relays)).toEqual({
    title: "One line wants attention",
    detail: "1 of 2 relays flow as they should. 2 pushes, 2\u202f000\u00a0kbit/s going out.",
  });
  expect(verdictOf([]).title).toBe("Everything is switched off");
});

test("a cause that pushes share with their feed is told once", () => {
  const notes = notesOf(relay("A", "waiting", ["waiting", "waiting"]));
  expect(notes).toHaveLength(1);
  expect(notes[0]?.about).toEqual(["A cam", "To 0", "To 1"]);
});

test("a search finds relays, feeds and destinations", () => {
  const one = relay("Summit", "flowing", ["live"]);
  expect(matches(one, "summ cam")).toBe(true);
  expect(matches(one, "to 0")).toBe(true);
  expect(matches(one, "viaduct")).toBe(false);
  expect(matches(one, "")).toBe(true);
});
