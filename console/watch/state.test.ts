import { expect, test } from "vitest";

import { hostOf, messageOf, readState, type SignpostState } from "./state";

const LIVE: SignpostState = {
  state: "live",
  title: "The summit",
  playlist: "live.m3u8",
  leads_to: null,
  expected: null,
};

test("states are read from responses, and nothing else", () => {
  expect(readState(JSON.parse(JSON.stringify(LIVE)))).toEqual(LIVE);
  for (const value of [null, "live", {}, { ...LIVE, state: "gone" }, { ...LIVE, leads_to: 7 }]) {
    expect(readState(value)).toBeNull();
  }
});

test("viewers read why there is no picture, and when it is expected", () => {
  expect(messageOf(LIVE)).toBeNull();
  expect(messageOf({ ...LIVE, playlist: null })).toBe("On air.");
  expect(messageOf({ ...LIVE, state: "interrupted" })).toBe("The picture is interrupted. It comes back by itself.");
  expect(messageOf({ ...LIVE, state: "paused" })).toBe("This page is paused.");
  expect(messageOf({ ...LIVE, state: "off-air" })).toBe("Nothing is on air at the moment.");
  expect(messageOf({ ...LIVE, state: "off-air", expected: "19:00 (Europe/Lisbon)" })).toBe(
    "Back at 19:00 (Europe/Lisbon).",
  );
});

test("only addresses of the web are linked", () => {
  expect(hostOf("https://watch.bramble.example.net/summit")).toBe("watch.bramble.example.net");
  expect(hostOf("javascript:alert(1)")).toBeNull();
  expect(hostOf("nonsense")).toBeNull();
});
