// @vitest-environment jsdom
import { act, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";

import type { LogEntry, RelayEvent } from "../../api/types";
import { relaysQuery } from "../../features/lines";
import { logbookQuery } from "../../features/logbook";
import { push, relay } from "../../test/railway";
import { draw, fakeApi } from "../../test/render";
import { AwayBanner } from "../AwayBanner";
import { LiveProvider } from "./LiveProvider";

/** Stands in for the browser's event stream. */
class FakeEvents {
  static all: FakeEvents[] = [];
  onmessage: ((message: { data: string }) => void) | null = null;
  onerror: (() => void) | null = null;

  constructor() {
    FakeEvents.all.push(this);
  }

  close(): void {
    this.onmessage = null;
  }
}

function say(event: RelayEvent): void {
  act(() => FakeEvents.all.at(-1)?.onmessage?.({ data: JSON.stringify(event) }));
}

beforeEach(() => {
  FakeEvents.all = [];
  vi.stubGlobal("EventSource", FakeEvents);
  vi.useFakeTimers({ shouldAdvanceTime: true });
});
afterEach(() => {
  vi.restoreAllMocks();
  vi.useRealTimers();
});

function Names(): ReactNode {
  const relays = useQuery(relaysQuery());
  const lines = useQuery(logbookQuery({ kind: "relay" }));
  return (
    <>
      <ul>
        {relays.data?.map((each) => (
          <li key={each.name}>{`${each.name} ${each.feed.state} ${each.pushes[0]?.kbps}`}</li>
        ))}
      </ul>
      <ol aria-label="Logbook">
        {lines.data?.map((line) => (
          <li key={line.id}>{line.what}</li>
        ))}
      </ol>
    </>
  );
}

async function drawNames() {
  const calls = fakeApi((call) => ({ status: 200, body: call.path === "/api/v1/relays" ? [relay("Summit")] : [] }));
  const drawn = draw(
    <LiveProvider>
      <AwayBanner />
      <Names />
    </LiveProvider>,
  );
  await screen.findByText(/^Summit/);
  return { calls, client: drawn.client };
}

const shown = () => screen.getAllByRole("listitem").map((item) => item.textContent);

function line(id: number, change: Partial<LogEntry> = {}): LogEntry {
  return {
    id,
    at: "2026-11-26T03:00:00Z",
    kind: "relay",
    name: "Summit",
    part: null,
    what: "stopped",
    code: null,
    side: null,
    message: "",
    who: "night desk",
    ...change,
  };
}

test("relays come, change, move and go without a reload", async () => {
  await drawNames();
  say({ kind: "relay", relay: relay("Viaduct") });
  await waitFor(() => expect(shown()).toHaveLength(2));
  const feed = {
    retry_in_s: null,
    kbps: 900,
    fps: 25,
    keyframe_interval_s: 2,
    bytes: 1,
    packets_lost: 0,
    units_dropped: 0,
  };
  const moved = { retry_in_s: null, kbps: 777, bytes: 2, frames_sent: 3, frames_dropped: 0, backlog_ms: 0, link: null };
  say({
    kind: "stats",
    relays: [
      { name: "Viaduct", feed, pushes: [moved] },
      { name: "Nobody", feed, pushes: [] },
    ],
  });
  await waitFor(() => expect(shown()).toContain("Viaduct flowing 777"));
  say({ kind: "removed", name: "Viaduct" });
  await waitFor(() => expect(shown()).toHaveLength(1));
});

test("many changes at once are drawn once", async () => {
  const { client } = await drawNames();
  const writes = vi.spyOn(client, "setQueryData");
  for (let at = 0; at < 100; at += 1) {
    say({ kind: "relay", relay: relay(`Line ${at}`, { pushes: [push("One")] }) });
  }
  await waitFor(() => expect(shown()).toHaveLength(101));
  expect(writes.mock.calls.length).toBeLessThan(10);
});

test("after a break the relays are received again, removed ones disappear, and other queries are refetched", async () => {
  const { calls } = await drawNames();
  say({ kind: "relay", relay: relay("Viaduct") });
  say({ kind: "complete" });
  act(() => FakeEvents.all.at(-1)?.onerror?.());
  expect(screen.getByRole("alert").textContent).toContain("No connection to the service.");
  void act(() => vi.advanceTimersByTime(2_100));
  await waitFor(() => expect(FakeEvents.all).toHaveLength(2));
  const before = calls.filter((call) => call.path.startsWith("/api/v1/logbook")).length;
  say({ kind: "relay", relay: relay("Viaduct") });
  say({ kind: "complete" });
  await waitFor(() => expect(screen.queryByRole("alert")).toBeNull());
  expect(shown()).toEqual(["Viaduct flowing 1000"]);
  await waitFor(() =>
    expect(calls.filter((call) => call.path.startsWith("/api/v1/logbook")).length).toBeGreaterThan(before),
  );
});

test("a page that is left hangs up, and listens again when it is shown", async () => {
  await drawNames();
  const first = FakeEvents.all.at(-1);
  act(() => void window.dispatchEvent(new Event("pagehide")));
  expect(first?.onmessage).toBeNull();
  act(() => void window.dispatchEvent(new Event("pageshow")));
  expect(FakeEvents.all).toHaveLength(2);
});

test("a page that nobody looks at hangs up after a while, and catches up when it is looked at", async () => {
  await drawNames();
  const hidden = vi.spyOn(document, "visibilityState", "get").mockReturnValue("hidden");
  act(() => void document.dispatchEvent(new Event("visibilitychange")));
  void act(() => vi.advanceTimersByTime(20_000));
  say({ kind: "alive", now: "2026-11-29T03:00:00Z" });
  void act(() => vi.advanceTimersByTime(9_000));
  expect(FakeEvents.all[0]?.onmessage).not.toBeNull();
  void act(() => vi.advanceTimersByTime(2_000));
  expect(FakeEvents.all[0]?.onmessage).toBeNull();
  hidden.mockReturnValue("visible");
  act(() => void document.dispatchEvent(new Event("visibilitychange")));
  expect(FakeEvents.all).toHaveLength(2);
  hidden.mockRestore();
});

test("a line of the logbook is added where it is asked for, once, and stales what it is about", async () => {
  const { client } = await drawNames();
  const stale = vi.spyOn(client, "invalidateQueries");
  say({ kind: "log", entry: line(7) });
  say({ kind: "log", entry: line(7) });
  say({ kind: "log", entry: line(8, { kind: "destination", what: "rekeyed" }) });
  expect(await screen.findByText("stopped")).toBeTruthy();
  expect(screen.queryByText("rekeyed")).toBeNull();
  void act(() => vi.advanceTimersByTime(500));
  const keys = stale.mock.calls.map(([filters]) => filters?.queryKey?.[0]);
  expect(keys).toContain("destinations");
  expect(keys.filter((key) => key === "budget")).toHaveLength(1);
});

test("a stream that falls silent without an error is noticed, and a heartbeat keeps it", async () => {
  await drawNames();
  say({ kind: "complete" });
  act(() => void vi.advanceTimersByTime(20_000));
  say({ kind: "alive", now: "2026-11-29T03:00:00Z" });
  act(() => void vi.advanceTimersByTime(20_000));
  expect(screen.queryByRole("alert")).toBeNull();
  act(() => void vi.advanceTimersByTime(6_000));
  expect((await screen.findByRole("alert")).textContent).toContain("No connection to the service.");
});

test("a session that has ended asks to sign in where the page stands", async () => {
  let isSignedOut = true;
  fakeApi(({ method, path }) => {
    if (path !== "/api/v1/session") {
      return { status: 200, body: [relay("Summit")] };
    }
    if (method === "POST") {
      isSignedOut = false;
      return { status: 200, body: { person: "night desk", role: "operator", token: "t" } };
    }
    return isSignedOut
      ? { status: 401, body: { status: 401, code: "request.sign-in-needed", detail: "Nobody is signed in." } }
      : { status: 200, body: { person: "night desk", role: "operator", token: "t" } };
  });
  draw(
    <LiveProvider>
      <AwayBanner />
      <Names />
    </LiveProvider>,
  );
  await screen.findByText(/^Summit/);
  act(() => FakeEvents.all.at(-1)?.onerror?.());
  act(() => void vi.advanceTimersByTime(2_100));
  const form = await screen.findByRole("form", { name: "Sign in again" });
  const opened = FakeEvents.all.length;
  const user = userEvent.setup({ advanceTimers: vi.advanceTimersByTime.bind(vi) });
  await user.type(within(form).getByLabelText("Name"), "night desk");
  await user.type(within(form).getByLabelText("Password"), "a long enough one");
  await user.click(within(form).getByRole("button", { name: "Sign in" }));
  await waitFor(() => expect(FakeEvents.all.length).toBe(opened + 1));
  say({ kind: "complete" });
  await waitFor(() => expect(screen.queryByRole("alert")).toBeNull());
});

test("a page that is hidden when it opens does not listen until somebody looks", async () => {
  const hidden = vi.spyOn(document, "visibilityState", "get").mockReturnValue("hidden");
  await drawNames();
  expect(FakeEvents.all).toHaveLength(0);
  hidden.mockReturnValue("visible");
  act(() => void document.dispatchEvent(new Event("visibilitychange")));
  expect(FakeEvents.all).toHaveLength(1);
  hidden.mockRestore();
});
