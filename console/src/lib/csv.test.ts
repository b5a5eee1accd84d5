import { expect, test } from "vitest";

import { csv } from "./csv";

test("cells with commas, quotes and line ends are quoted, and nothing becomes a formula", () => {
  const text = csv(
    ["name", "said"],
    [
      ["a,b", 'he said "no"'],
      ["=1+1", "two\nlines"],
      ["-5 °C", null],
      ["n", -5],
    ],
  );
  expect(text).toBe('name,said\r\n"a,b","he said ""no"""\r\n\'=1+1,"two\nlines"\r\n\'-5 °C,\r\nn,-5\r\n');
});
