import { expect, test } from "vitest";

import type { Outage } from "../../../api/types";
import { byCause } from "./ReportTables";

function outage(kind: Outage["kind"], code: string, down_s: number): Outage {
  return {
    kind,
    name: "Summit",
    part: null,
    begin: "2026-11-26T03:00:00Z",
    end: null,
    down_s,
    code,
    side: "camera",
    message: "Away.",
  };
}

test("causes are summed up, the longest first, and a relay's outage is not counted besides its parts'", () => {
  const sums = byCause([
    outage("feed", "feed.stalled", 5),
    outage("relay", "feed.stalled", 5),
    outage("push", "push.no-answer", 60),
    outage("feed", "feed.stalled", 7),
  ]);
  expect(sums.map(({ code, outages, down_s }) => [code, outages, down_s])).toEqual([
    ["push.no-answer", 1, 60],
    ["feed.stalled", 2, 12],
  ]);
});
