import { expect, test } from "vitest";

import { readBlank, writeBlank } from "./blanks";

test.each(["host", "channel: 1-32", "channel: 1-32 +100", "channel: 1-99 +100 width 3", "stream: main=1, sub=2"])(
  "%s reads and writes as it stands",
  (line) => {
    const blank = readBlank(line);
    expect(blank === null ? null : writeBlank(blank)).toBe(line);
  },
);

test.each(["", "two words", "channel: 1-", "stream: main, sub", ": 1-2"])("%j is no blank", (line) => {
  expect(readBlank(line)).toBeNull();
});
