// @vitest-environment jsdom
import { expect, test } from "vitest";

import type { Rates } from "../../../api/types";
import { advanced, lineStyle, plotted } from "./plot";

const RATES: Rates = {
  from: "2026-11-26T03:00:00Z",
  step_s: 10,
  feed: [2000, null, 1500],
  pushes: [{ destination: "Bramble TV", kbps: [2080, 0, null] }],
  outages: [],
};

test("rates become rows in Mbit/s, and what was not measured stays a hole", () => {
  const { names, data } = plotted(RATES, "Summit");
  const begin = Date.parse(RATES.from) / 1000;
  expect(names).toEqual(["Summit", "Bramble TV"]);
  expect(data).toEqual([
    [begin, begin + 10, begin + 20],
    [2, null, 1.5],
    [2.08, 0, null],
  ]);
});

test("what nobody measured yet is not shown, but for a fifth of the time", () => {
  const late = (kbps: number) => [...Array.from({ length: 6 }, () => null), ...Array.from({ length: 4 }, () => kbps)];
  const fresh = { ...RATES, feed: late(2000), pushes: [{ destination: "Bramble TV", kbps: late(2080) }] };
  expect(plotted(fresh, "Summit").data[1]).toEqual([2, 2, 2, 2]);
  const nothing = { ...RATES, feed: Array.from({ length: 10 }, () => null), pushes: [] };
  expect(plotted(nothing, "Summit").data[1]).toEqual([null, null]);
});

test("a second's figures are added, none twice, and an hour is kept", () => {
  const before = plotted(RATES, "Summit");
  const last = before.data[0].at(-1) ?? 0;
  const next = advanced(before, last + 1, [1000, 3000]);
  expect(next.data.map((row) => row.at(-1))).toEqual([last + 1, 1, 3]);
  expect(next.data[0]).toHaveLength(4);
  expect(advanced(next, last + 1, [9, 9])).toBe(next);
  let long = next;
  for (let second = 2; second < 4000; second += 1) {
    long = advanced(long, last + second, [1, 1]);
  }
  expect(long.data.map((row) => row.length)).toEqual([3600, 3600, 3600]);
});

test("no two of the first eight lines look alike", () => {
  const looks = Array.from({ length: 8 }, (_, at) => JSON.stringify(lineStyle(at)));
  expect(new Set(looks).size).toBe(8);
});
