import { expect, test } from "vitest";

import { counted, duration, grouped, countText, listed, moment, rate, untilRetry, volume } from "./format";

test.each([
  [0, "0"],
  [999, "999"],
  [1234, "1\u202f234"],
  [12345678, "12\u202f345\u202f678"],
])("%d is grouped in threes", (value, text) => {
  expect(grouped(value)).toBe(text);
});

test.each([
  [0, "0 s"],
  [14_900, "14 s"],
  [190_000, "3 min 10 s"],
  [3_600_000 * 7 + 60_000, "7 h 01 min"],
  [86_400_000 * 11 + 3_600_000 * 7, "11 d 07 h"],
  [-5, "0 s"],
])("%d milliseconds show their two largest units", (value, text) => {
  expect(duration(value)).toBe(text);
});

test.each([
  [0.2, "0 s"],
  [64.6, "65 s"],
  [90, "2 min"],
  [1_800, "30 min"],
])("a retry in %d seconds is shown in seconds, or in minutes where it is far", (seconds, text) => {
  expect(untilRetry(seconds)).toBe(text);
});

test("rates change their unit where numbers grow long", () => {
  expect(rate(9_999)).toBe("9\u202f999\u00a0kbit/s");
  expect(rate(71_440)).toBe("71.4\u00a0Mbit/s");
});

test("small counts and lists are words", () => {
  expect(countText(2)).toBe("Two");
  expect(countText(17)).toBe("17");
  expect(listed(["a"])).toBe("a");
  expect(listed(["a", "b", "c"])).toBe("a, b and c");
});

test.each([
  [0, "0 B"],
  [999, "999 B"],
  [1_234, "1.23 kB"],
  [43_700_000, "43.7 MB"],
  [498_000_000_000, "498 GB"],
  [6_000_000_000_000, "6.00 TB"],
])("%d bytes are %s", (bytes, text) => {
  expect(volume(bytes)).toBe(text.replace(" ", "\u00a0"));
});

test("times of today have no day", () => {
  const now = new Date(2026, 10, 26, 3, 10).getTime();
  expect(moment(new Date(2026, 10, 26, 2, 5, 9).toISOString(), now)).toBe("02:05:09");
  expect(moment(new Date(2026, 10, 25, 23, 59, 1).toISOString(), now)).toBe("25 Nov 2026, 23:59:01");
});

test("counts go with their nouns", () => {
  expect([counted(1, "push", "pushes"), counted(0, "day"), counted(1_200, "push", "pushes")]).toEqual([
    "1 push",
    "0 days",
    "1\u202f200 pushes",
  ]);
});
