// @vitest-environment jsdom
import { act, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { beforeEach, expect, test, vi } from "vitest";

import type { RelayEvent } from "../../api/types";
import { feed, push, relay } from "../../test/railway";
import { draw, fakeApi } from "../../test/render";
import { LinesPage } from "./LinesPage";

/** Stands in for the browser's event stream. */
class FakeEvents {
  static last: FakeEvents;
  onmessage: ((message: { data: string }) => void) | null = null;
  onerror: (() => void) | null = null;

  constructor() {
    FakeEvents.last = this;
  }

  close(): void {
    this.onmessage = null;
  }

  say(event: RelayEvent): void {
    act(() => this.onmessage?.({ data: JSON.stringify(event) }));
  }
}

beforeEach(() => vi.stubGlobal("EventSource", FakeEvents));

const names = () => screen.getAllByRole("heading", { level: 2 }).map((heading) => heading.textContent);

async function drawLines(): Promise<void> {
  const troubled = relay("Viaduct", { feed: feed({ state: "blocked" }), pushes: [push("Night", { state: "waiting" })] });
  fakeApi(() => ({ status: 200, body: [relay("Summit"), troubled, relay("Shed", { wanted: "off" })] }));
  draw(<LinesPage />);
  await screen.findByRole("heading", { name: "One line wants attention" });
}

test("lines stand worst first, under one sentence that sums them up", async () => {
  await drawLines();
  expect(names()).toEqual(["Viaduct", "Summit", "Shed"]);
  expect(screen.getByText(/1 of 2 relays flow as they should/)).toBeTruthy();
});

test("search and moods narrow the list", async () => {
  const user = userEvent.setup();
  await drawLines();
  await user.type(screen.getByRole("searchbox"), "night");
  expect(names()).toEqual(["Viaduct"]);
  await user.clear(screen.getByRole("searchbox"));
  await user.click(screen.getByRole("button", { name: "Show only the lines that are off: 1" }));
  expect(names()).toEqual(["Shed"]);
  await user.click(screen.getByRole("button", { name: "Show only the lines that are in trouble: 0" }));
  expect(screen.getByText("No line fits this filter.")).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "Worst first" }));
  expect(names()).toHaveLength(3);
});

test("live events change, add and remove lines without a reload", async () => {
  await drawLines();
  FakeEvents.last.say({ kind: "relay", relay: relay("Viaduct") });
  expect(await screen.findByRole("heading", { name: "All lines are up" })).toBeTruthy();
  FakeEvents.last.say({ kind: "relay", relay: relay("Bandstand") });
  await waitFor(() => expect(names()).toContain("Bandstand"));
  FakeEvents.last.say({ kind: "gone", name: "Bandstand" });
  await waitFor(() => expect(names()).not.toContain("Bandstand"));
  // Once everything has been told, what was not told has gone.
  FakeEvents.last.say({ kind: "complete" });
  await waitFor(() => expect(names()).toEqual(["Viaduct"]));
});

test("a break of the stream shows, and passes when everything was told again", async () => {
  vi.useFakeTimers({ shouldAdvanceTime: true });
  await drawLines();
  act(() => FakeEvents.last.onerror?.());
  expect(screen.getByRole("alert").textContent).toContain("The service is away.");
  act(() => vi.advanceTimersByTime(2_100));
  FakeEvents.last.say({ kind: "relay", relay: relay("Summit") });
  FakeEvents.last.say({ kind: "complete" });
  await waitFor(() => expect(screen.queryByRole("alert")).toBeNull());
  vi.useRealTimers();
});

test("without relays the page teaches the first steps", async () => {
  fakeApi(() => ({ status: 200, body: [] }));
  draw(<LinesPage />);
  expect(await screen.findByRole("heading", { name: "No lines yet" })).toBeTruthy();
  expect(screen.getAllByRole("listitem")).toHaveLength(4);
});
