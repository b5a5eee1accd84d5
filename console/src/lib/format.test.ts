import { expect, test } from "vitest";

import { duration, grouped, inWords, listed, rate } from "./format";

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

test("rates change their unit where numbers grow long", () => {
  expect(rate(9_999)).toBe("9\u202f999 kbit/s");
  expect(rate(71_440)).toBe("71.4 Mbit/s");
});

test("small counts and lists are words", () => {
  expect(inWords(2)).toBe("Two");
  expect(inWords(17)).toBe("17");
  expect(listed(["a"])).toBe("a");
  expect(listed(["a", "b", "c"])).toBe("a, b and c");
});
