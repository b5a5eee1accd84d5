import { expect, test } from "vitest";

import type { LogEntry } from "../../api/types";
import { concerns, type LogFilter } from "./filter";

const LINE: LogEntry = {
  id: 7,
  at: "2026-11-26T03:00:00Z",
  kind: "push",
  name: "Summit",
  part: "Bramble TV",
  what: "waiting",
  code: "push.no-answer",
  side: "platform",
  message: "It does not answer.",
  who: null,
};

test.each<[LogFilter, boolean]>([
  [{}, true],
  [{ about: "" }, true],
  [{ about: "summit" }, true],
  [{ about: "bramble tv" }, true],
  [{ about: "Bramble" }, false],
  [{ kind: "push", side: "platform" }, true],
  [{ kind: "feed" }, false],
  [{ side: "camera" }, false],
  [{ changes: false }, true],
  [{ changes: true }, false],
])("%j asks for the line: %s", (filter, asked) => {
  expect(concerns(filter, LINE)).toBe(asked);
});
