import { expect, test } from "vitest";

import { readTrigger, writeTrigger } from "./trigger";

test.each([
  "down 60s",
  "blocked",
  "rate-below 500kbit/s 30s",
  "rate-above 8Mbit/s 30s",
  "key-expires 7d",
  "allowance 80%",
  "flapping 5 in 10m",
])("%s is read and written as it stands", (line) => {
  const { kind, blanks } = readTrigger(line);
  expect(writeTrigger(kind, blanks)).toBe(line);
});
