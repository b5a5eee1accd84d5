// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import type { Budget, Day, Relay } from "../../api/types";
import { condition, feed, push, relay } from "../../test/railway";
import { draw, fakeApi } from "../../test/render";
import { LinesPage } from "./LinesPage";

const names = () => screen.getAllByRole("heading", { level: 2 }).map((heading) => heading.textContent);

/** An API with these relays, and nothing else to tell. */
function answer(relays: Relay[]): void {
  const day: Day = { from: "2026-11-25T03:00:00Z", step_s: 60, relays: [] };
  const budget: Budget = { uplinks: [], undescribed: [], month: "2026-11", days_left: 4, fits: [] };
  const bodies: Record<string, unknown> = { "/api/v1/relays": relays, "/api/v1/day": day, "/api/v1/budget": budget };
  fakeApi((call) => ({ status: 200, body: bodies[call.path] }));
}

async function drawLines(): Promise<void> {
  const affected = relay("Viaduct", {
    condition: condition({ level: "blocked" }),
    feed: feed({ state: "blocked" }),
    pushes: [push("Night", { state: "waiting" })],
  });
  answer([relay("Summit"), affected, relay("Shed", { wanted: "off", condition: condition({ level: "off" }) })]);
  draw(<LinesPage />);
  await screen.findByRole("heading", { name: "One line needs attention" });
}

test("lines stand worst first, under one sentence that sums them up", async () => {
  await drawLines();
  expect(names()).toEqual(["Viaduct", "Summit", "Shed"]);
  expect(screen.getByText(/1 of 2 relays are up/)).toBeTruthy();
});

test("search and levels narrow the list", async () => {
  const user = userEvent.setup();
  await drawLines();
  await user.type(screen.getByRole("searchbox"), "night");
  expect(names()).toEqual(["Viaduct"]);
  await user.clear(screen.getByRole("searchbox"));
  await user.click(screen.getByRole("button", { name: "Show only the lines that are off: 1" }));
  expect(names()).toEqual(["Shed"]);
  await user.click(screen.getByRole("button", { name: "Show only the lines that are down: 0" }));
  expect(screen.getByText("No lines match this filter.")).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "Worst first" }));
  expect(names()).toHaveLength(3);
});

test("without relays the page leads to the first one", async () => {
  fakeApi(() => ({ status: 200, body: [] }));
  draw(<LinesPage />);
  expect(await screen.findByRole("heading", { name: "No lines yet" })).toBeTruthy();
  expect(screen.getByRole("link", { name: "Set up a relay" }).getAttribute("href")).toBe("/new");
});

test("a viewer sees who may set up a relay", async () => {
  fakeApi(() => ({ status: 200, body: [] }));
  draw(<LinesPage />, { role: "operator" });
  expect(await screen.findByText(/An admin can set one up/)).toBeTruthy();
  expect(screen.queryByRole("link", { name: "Set up a relay" })).toBeNull();
});

test("of many lines only those near the window are drawn", async () => {
  const many = Array.from({ length: 500 }, (_, at) => relay(`Line ${at}`));
  answer(many);
  draw(<LinesPage />);
  await screen.findByRole("heading", { name: "All lines are up" });
  expect(screen.queryAllByRole("article").length).toBeLessThan(100);
});
