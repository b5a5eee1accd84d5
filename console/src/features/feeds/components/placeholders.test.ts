import { expect, test } from "vitest";

import { readPlaceholder, writePlaceholder } from "./placeholders";

test.each(["host", "channel: 1-32", "channel: 1-32 +100", "channel: 1-99 +100 width 3", "stream: main=1, sub=2"])(
  "%s reads and writes as it stands",
  (line) => {
    const placeholder = readPlaceholder(line);
    expect(placeholder === null ? null : writePlaceholder(placeholder)).toBe(line);
  },
);

test.each(["", "two words", "channel: 1-", "stream: main, sub", ": 1-2"])("%j is no placeholder", (line) => {
  expect(readPlaceholder(line)).toBeNull();
});
