// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { expect, test } from "vitest";

import type { Role } from "../../api/types";
import { draw, fakeApi, type Call } from "../../test/render";
import { SettingsPage } from "./SettingsPage";

const ANSWERS: Record<string, unknown> = {
  "GET /api/v1/people": [
    { name: "night desk", role: "admin", since: "2026-11-01T00:00:00Z", seen: "2026-11-26T03:00:00Z" },
    { name: "guest", role: "viewer", since: "2026-11-02T00:00:00Z", seen: null },
  ],
  "GET /api/v1/invitations": [
    { name: "Signal box", role: "operator", resets: false, by: "night desk", expires: "2026-11-29T00:00:00Z" },
  ],
  "POST /api/v1/invitations": {
    invitation: { name: "Porter", role: "operator", resets: false, by: "night desk", expires: "2026-11-29T00:00:00Z" },
    code: "one-time-code",
  },
  "GET /api/v1/sessions": [
    {
      id: "aa",
      person: "night desk",
      agent: "",
      since: "2026-11-26T00:00:00Z",
      seen: "2026-11-26T03:00:00Z",
      expires: "2026-12-03T00:00:00Z",
      this: true,
    },
    {
      id: "bb",
      person: "guest",
      agent: "",
      since: "2026-11-26T00:00:00Z",
      seen: "2026-11-26T03:00:00Z",
      expires: "2026-12-03T00:00:00Z",
      this: false,
    },
  ],
  "GET /api/v1/tokens": [
    {
      name: "Wall",
      role: "viewer",
      by: "night desk",
      since: "2026-11-01T00:00:00Z",
      expires: "2026-11-20T00:00:00Z",
      void: true,
      used: null,
    },
  ],
  "POST /api/v1/tokens": {
    token: {
      name: "Counter",
      role: "viewer",
      by: "night desk",
      since: "2026-11-26T00:00:00Z",
      expires: null,
      void: false,
      used: null,
    },
    secret: "shown-once",
  },
  "GET /api/v1/alerts": [
    {
      name: "Down",
      when: "down 60s",
      about: null,
      to: ["Desk"],
      repeat_s: 3600,
      open: [{ subject: "Viaduct", message: "It does not answer.", since: "2026-11-26T03:00:00Z" }],
    },
  ],
  "GET /api/v1/contacts": [
    { name: "Desk", channel: { type: "webhook", url: "https://desk.example.net/yonder" }, has_secret: true },
  ],
  "POST /api/v1/contacts": {
    contact: { name: "Phone", channel: { type: "webhook", url: "https://phone.example.net/" }, has_secret: true },
    secret: "made-secret",
  },
};

function drawSection(section: string, role: Role = "admin"): Call[] {
  const calls = fakeApi((call) => {
    const body = ANSWERS[`${call.method} ${call.path}`];
    return body === undefined ? { status: 204, body: null } : { status: 200, body };
  });
  draw(
    <Routes>
      <Route path="/settings/:section?" element={<SettingsPage />} />
    </Routes>,
    { at: `/settings/${section}`, role },
  );
  return calls;
}

test("somebody is invited by a link that is shown once, with its code behind the #", async () => {
  const calls = drawSection("people");
  const user = userEvent.setup();
  await user.type(await screen.findByLabelText("Name"), "Porter");
  await user.selectOptions(screen.getByLabelText("Role"), "operator: starts, stops, holds and rekeys as well");
  await user.click(screen.getByRole("button", { name: "Create link" }));
  expect((await screen.findByLabelText("Link")).textContent).toBe(`${window.location.origin}/join#one-time-code`);
  expect(calls.find((call) => call.method === "POST")?.body).toEqual({ name: "Porter", role: "operator" });
  expect(screen.getByRole("region", { name: "Invited" }).textContent).toContain("Signal box as operator");
});

test("roles are changed in place, and a removal says what it does", async () => {
  const calls = drawSection("people");
  const user = userEvent.setup();
  await user.selectOptions(await screen.findByLabelText("Role of guest"), "operator");
  expect(calls.find((call) => call.method === "PATCH")).toMatchObject({
    path: "/api/v1/people/guest",
    body: { role: "operator" },
  });
  await user.click(screen.getAllByRole("button", { name: "Remove" })[1] as HTMLElement);
  expect(screen.getByRole("alertdialog").textContent).toContain("signed out everywhere");
  await user.click(screen.getByRole("button", { name: "Remove and sign out" }));
  expect(calls.filter((call) => call.method === "DELETE").map((call) => call.path)).toEqual(["/api/v1/people/guest"]);
});

test("a password is changed with the current one, and neither stays in its field", async () => {
  const calls = drawSection("account", "viewer");
  const user = userEvent.setup();
  await user.type(await screen.findByLabelText("Current password"), "three lamps");
  await user.type(screen.getByLabelText("New password"), "a lamp in the window");
  await user.click(screen.getByRole("button", { name: "Change the password" }));
  expect(calls.find((call) => call.method === "POST")?.body).toEqual({
    current: "three lamps",
    new: "a lamp in the window",
  });
  await screen.findAllByText(/Your password is changed/);
  expect(screen.getByLabelText<HTMLInputElement>("New password").value).toBe("");
  expect(screen.queryByRole("tab", { name: "People" })).toBeNull();
});

test("one's own session is marked and others can be ended", async () => {
  const calls = drawSection("account");
  const user = userEvent.setup();
  expect(await screen.findByText("· this one")).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "End" }));
  await user.click(screen.getByRole("button", { name: "End the session" }));
  expect(calls.filter((call) => call.method === "DELETE").map((call) => call.path)).toEqual(["/api/v1/sessions/bb"]);
});

test("a token is made with a role and an end, and its secret shown once", async () => {
  const calls = drawSection("tokens");
  const user = userEvent.setup();
  expect(await screen.findByText(/^expired, made by night desk/)).toBeTruthy();
  await user.type(screen.getByLabelText("Name"), "Counter");
  await user.selectOptions(screen.getByLabelText("Expires after"), "never");
  await user.click(screen.getByRole("button", { name: "Create token" }));
  expect((await screen.findByLabelText("Token Counter")).textContent).toBe("shown-once");
  expect(calls.find((call) => call.method === "POST")?.body).toEqual({ name: "Counter", role: "viewer", days: 0 });
});

test("an alert is put together from its kind and its blanks", async () => {
  const calls = drawSection("alerts");
  const user = userEvent.setup();
  expect(await screen.findByText("It does not answer.", { exact: false })).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "Add an alert" }));
  const dialog = screen.getByRole("dialog");
  await user.type(within(dialog).getByLabelText("Name"), "Thin");
  await user.selectOptions(within(dialog).getByLabelText("When"), "a push sends less than");
  await user.clear(within(dialog).getByLabelText("Rate"));
  await user.type(within(dialog).getByLabelText("Rate"), "300kbit/s");
  await user.click(within(dialog).getByRole("checkbox", { name: "Desk" }));
  await user.click(within(dialog).getByRole("button", { name: "Add alert" }));
  expect(calls.find((call) => call.method === "POST")?.body).toEqual({
    name: "Thin",
    when: "rate-below 300kbit/s 60s",
    to: ["Desk"],
    repeat_s: 3600,
  });
});

test("a contact's made secret is shown before its dialog goes, and a test is sent", async () => {
  const calls = drawSection("alerts");
  const user = userEvent.setup();
  await user.click(await screen.findByRole("button", { name: "Add a contact" }));
  await user.type(screen.getByLabelText("Name"), "Phone");
  await user.type(screen.getByLabelText("Web address"), "https://phone.example.net/");
  await user.click(screen.getByRole("button", { name: "Add contact" }));
  expect((await screen.findByLabelText("Signing secret")).textContent).toBe("made-secret");
  await user.click(screen.getByRole("button", { name: "I have it" }));
  expect(document.body.textContent).not.toContain("made-secret");
  await user.click(screen.getByRole("button", { name: "Test" }));
  expect(calls.at(-1)?.path).toBe("/api/v1/contacts/Desk/test");
  expect((await screen.findAllByText(/Desk was notified/)).length).toBeGreaterThan(0);
});
