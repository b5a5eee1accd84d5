// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import type { Alert } from "../../api/types";
import { draw, fakeApi, type Call } from "../../test/render";
import { AlertsSection } from "./AlertsSection";

const DOWN: Alert = {
  name: "Night down",
  when: "down 60s",
  about: null,
  to: [],
  repeat_s: 3600,
  open: [],
  muted_until: null,
};
const OPEN = { subject: "Viaduct", message: "is down since 1 min", since: "2026-11-26T03:00:00Z", acknowledged: false };

/** An API with one alert, which changes as its calls say. */
function alertApi(initial: Alert): Call[] {
  let alert = initial;
  return fakeApi(({ method, path, body }) => {
    if (method === "GET") {
      return { status: 200, body: path.includes("/alerts") ? [alert] : [] };
    }
    if (path.endsWith("/acknowledge")) {
      alert = { ...alert, open: alert.open.map((open) => ({ ...open, acknowledged: true })) };
    } else {
      alert = { ...alert, muted_until: (body as { for_s: number }).for_s > 0 ? "2026-11-26T04:00:00Z" : null };
    }
    return { status: 200, body: alert };
  });
}

async function line(): Promise<HTMLElement> {
  return within(await screen.findByRole("region", { name: "Alerts" })).findByRole("listitem");
}

function changes(calls: readonly Call[]): unknown[] {
  return calls.filter(({ method }) => method !== "GET").map(({ method, path, body }) => [method, path, body]);
}

test("an open alert is acknowledged for its subject", async () => {
  const calls = alertApi({ ...DOWN, open: [OPEN] });
  const user = userEvent.setup();
  draw(<AlertsSection />, { role: "operator" });
  expect((await line()).textContent).toContain("Night down: down 60s, to all contacts, again every");
  await user.click(within(await line()).getByRole("button", { name: "Acknowledge" }));
  expect(await screen.findByText("· acknowledged")).toBeTruthy();
  expect(screen.queryByRole("button", { name: "Acknowledge" })).toBeNull();
  expect(changes(calls)).toEqual([["POST", "/api/v1/alerts/Night%20down/acknowledge", { subject: "Viaduct" }]]);
});

test("an alert is muted for an hour, and the mute is ended", async () => {
  const calls = alertApi(DOWN);
  const user = userEvent.setup();
  draw(<AlertsSection />, { role: "operator" });
  await user.click(within(await line()).getByRole("button", { name: "Mute for an hour" }));
  expect(await screen.findByText(/^Muted until /)).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "Unmute" }));
  expect(await screen.findByRole("button", { name: "Mute for a day" })).toBeTruthy();
  const path = "/api/v1/alerts/Night%20down/mute";
  expect(changes(calls)).toEqual([
    ["POST", path, { for_s: 3600 }],
    ["POST", path, { for_s: 0 }],
  ]);
});

test.each([
  { role: "viewer", buttons: [] },
  { role: "operator", buttons: ["Acknowledge", "Mute for an hour", "Mute for a day"] },
  { role: "admin", buttons: ["Acknowledge", "Mute for an hour", "Mute for a day", "Change", "Remove"] },
] as const)("a $role has the buttons of the role", async ({ role, buttons }) => {
  alertApi({ ...DOWN, to: ["Night phone"], open: [OPEN] });
  draw(<AlertsSection />, { role });
  const item = await line();
  expect(item.textContent).toContain("to Night phone");
  expect(
    within(item)
      .queryAllByRole("button")
      .map((button) => button.textContent),
  ).toEqual(buttons);
});
