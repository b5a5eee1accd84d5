import { expect, test } from "vitest";

import { isSending, needsAttention, severity, WORST_FIRST } from "./states";

const SOURCES = import.meta.glob<string>("../**/*.{ts,tsx}", { query: "?raw", import: "default", eager: true });
const NAMES =
  "off|dialing|flowing|stalled|waiting|blocked|live|holding|lagging|good|starting|degraded|down|on|hold|camera|network|platform|ours|planned|pass|warn|fail";

test("no component compares a state, level or side by its name", () => {
  const compared = new RegExp(`\\b(state|wanted|level|side|word)\\s*[!=]==\\s*"(${NAMES})"`);
  const found = Object.entries(SOURCES)
    .filter(([path]) => !/\.test\.tsx?$|schema\.d\.ts$|\/states\.ts$/.test(path))
    .flatMap(([path, text]) =>
      text
        .split("\n")
        .filter((line) => compared.test(line))
        .map((line) => `${path}: ${line.trim()}`),
    );
  expect(Object.keys(SOURCES).length).toBeGreaterThan(100);
  expect(found).toEqual([]);
});

test("the worst level comes first", () => {
  expect(WORST_FIRST[0]).toBe("blocked");
  expect(severity("down")).toBeGreaterThan(severity("degraded"));
  expect(needsAttention("degraded")).toBe(true);
  expect(needsAttention("starting")).toBe(false);
});

test.each([
  ["live", true],
  ["holding", true],
  ["lagging", true],
  ["waiting", false],
] as const)("a push that is %s sends: %s", (state, sends) => {
  expect(isSending(state)).toBe(sends);
});
