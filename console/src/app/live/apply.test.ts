// @vitest-environment jsdom
import { QueryClient } from "@tanstack/react-query";
import { afterEach, beforeEach, expect, test, vi } from "vitest";

import type { LogEntry, Relay, RelayStats } from "../../api/types";
import { feed, push, relay } from "../../test/railway";
import { EventBatch, withStats, takeLine } from "./apply";
import { Staleness } from "./staleness";

const VIDEO = {
  codec: "H.264",
  profile: "High",
  level: 4,
  width: 1280,
  height: 720,
  fps: null,
  kbps: 0,
  keyframe_interval_s: null,
} as const;

function stats(name: string, change: Partial<RelayStats["feed"]> = {}): RelayStats {
  return {
    name,
    feed: { bytes: 500, packets_lost: 2, units_dropped: 1, kbps: 1800, fps: 25, keyframe_interval_s: 2, ...change },
    pushes: [{ kbps: 1750, bytes: 480, frames_sent: 9, frames_dropped: 0, backlog_ms: 40 }],
  };
}

test("a stats moves figures and leaves states as they are", () => {
  const before = relay("Line", { feed: feed({ state: "stalled", video: { ...VIDEO } }) });
  const after = withStats(before, stats("Line"));
  expect(after.feed).toMatchObject({ state: "stalled", bytes: 500, packets_lost: 2, units_dropped: 1 });
  expect(after.feed.video).toMatchObject({ codec: "H.264", width: 1280, fps: 25, kbps: 1800, keyframe_interval_s: 2 });
  expect(after.pushes[0]).toMatchObject({ destination: "Bramble TV", state: "live", kbps: 1750, frames_sent: 9 });
});

test("what a stats knows nothing of any more is not shown any more", () => {
  const before = relay("Line", { feed: feed({ retry_in_s: 4, video: { ...VIDEO, fps: 25, keyframe_interval_s: 2 } }) });
  const after = withStats(before, stats("Line", { fps: null, keyframe_interval_s: null }));
  expect([after.feed.retry_in_s, after.feed.video?.fps, after.feed.video?.keyframe_interval_s]).toEqual([
    null,
    null,
    null,
  ]);
});

test("a stats that is older than a change makes up neither picture nor push", () => {
  const before = relay("Line", { pushes: [push("Bramble TV"), push("Thistle Stage")] });
  const after = withStats(before, stats("Line"));
  expect(after.feed.video).toBeNull();
  expect(after.pushes.map(({ destination, kbps }) => [destination, kbps])).toEqual([
    ["Bramble TV", 1750],
    ["Thistle Stage", 1000],
  ]);
});

test("many changes are written as one, the last word of each relay", () => {
  const batch = new EventBatch();
  expect(batch.isEmpty()).toBe(true);
  const received: Relay[] = [relay("A", { wanted: "off" }), relay("B"), relay("A", { wanted: "hold" })];
  received.forEach((each) => batch.take({ kind: "relay", relay: each }));
  batch.take({ kind: "removed", name: "C" });
  batch.take({ kind: "stats", relays: [stats("B"), stats("gone already")] });
  const after = batch.applyTo([relay("C"), relay("D")]);
  expect(after.map(({ name, wanted }) => `${name} ${wanted}`)).toEqual(["D on", "A hold", "B on"]);
  expect(after.find(({ name }) => name === "B")?.feed.bytes).toBe(500);
  expect(batch.isEmpty()).toBe(true);
});

test("a relay that is removed and made again is there", () => {
  const batch = new EventBatch();
  batch.take({ kind: "removed", name: "A" });
  batch.take({ kind: "relay", relay: relay("A", { wanted: "off" }) });
  expect(batch.applyTo([relay("A")]).map(({ wanted }) => wanted)).toEqual(["off"]);
});

test("what nothing happened to stays the same object, so that its card is not drawn again", () => {
  const still = relay("Still");
  const batch = new EventBatch();
  batch.take({ kind: "stats", relays: [stats("Line")] });
  const after = batch.applyTo([still, relay("Line")]);
  expect(after[0]).toBe(still);
});

const LINE: LogEntry = {
  id: 7,
  at: "2026-11-26T03:00:00Z",
  kind: "destination",
  name: "Bramble TV",
  part: null,
  what: "rekeyed",
  code: null,
  side: null,
  message: "",
  who: "night desk",
};

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

function staleAfter(entry: LogEntry, ms: number): string[] {
  const client = new QueryClient();
  const stale: string[] = [];
  vi.spyOn(client, "invalidateQueries").mockImplementation(async (filters) => {
    stale.push(...(filters?.queryKey ?? []).map(String));
  });
  const staleness = new Staleness(client);
  takeLine(client, staleness, entry);
  takeLine(client, staleness, { ...entry, id: entry.id + 1 });
  vi.advanceTimersByTime(ms);
  staleness.stop();
  return stale;
}

test("a deed makes what it was done to stale at once, and once", () => {
  expect(staleAfter(LINE, 1000).sort()).toEqual(["budget", "destinations"]);
});

test("what happens by itself is added up some seconds later", () => {
  const state = { ...LINE, kind: "push", who: null };
  expect(staleAfter(state, 1000)).toEqual([]);
  expect(staleAfter(state, 11_000).sort()).toEqual(["alerts", "day", "report"]);
});

test("a deed of a kind that no page shows makes nothing stale", () => {
  expect(staleAfter({ ...LINE, kind: "service" }, 11_000)).toEqual([]);
});
