// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import type { AuditEntry } from "../../api/types";
import { draw, fakeApi } from "../../test/render";
import { AuditPage } from "./AuditPage";

function entry(number: number, change: Partial<AuditEntry> = {}): AuditEntry {
  return {
    number,
    at: "2026-11-26T03:00:00Z",
    who: "chief",
    origin: "console",
    address: "192.0.2.44",
    action: "changed",
    kind: "feed",
    name: "Summit",
    id: "a1b2",
    fields: [],
    ...change,
  };
}

test("a change shows who made it, from where, and what was there before and after", async () => {
  const fields = [
    { field: "site", before: null, after: "Fell Yard" },
    { field: "password", before: null, after: null },
  ];
  const calls = fakeApi(() => ({
    status: 200,
    body: [
      entry(2, { fields }),
      entry(1, {
        origin: "site-book",
        action: "added",
        address: null,
        fields: [{ field: "url", before: null, after: "rtsp://192.0.2.7/main" }],
      }),
    ],
  }));
  draw(<AuditPage />, { at: "/audit?about=Summit" });
  const lines = within(await screen.findByRole("region", { name: "Changes" })).getAllByRole("listitem");
  expect(lines[0]?.textContent).toContain("changed by chief · console, 192.0.2.44");
  expect(lines[0]?.textContent).toContain("site: none → Fell Yard");
  expect(lines[0]?.textContent).toContain("password: set");
  expect(screen.getByText(/· site book$/)).toBeTruthy();
  expect(screen.getByText("url: rtsp://192.0.2.7/main")).toBeTruthy();
  expect(calls[0]?.path).toBe("/api/v1/audit?about=Summit&limit=100");
});

test("older changes are a page of their own", async () => {
  const pages = [Array.from({ length: 100 }, (_, at) => entry(200 - at)), [entry(7, { name: "Oldest" })]];
  const calls = fakeApi((call) => ({ status: 200, body: call.path.includes("before=") ? pages[1] : pages[0] }));
  const user = userEvent.setup();
  draw(<AuditPage />, { at: "/audit" });
  await user.click(await screen.findByRole("button", { name: "Show older changes" }));
  expect(await screen.findByText(/Oldest/)).toBeTruthy();
  expect(calls.at(-1)?.path).toBe("/api/v1/audit?limit=100&before=101");
  expect(screen.queryByRole("button", { name: "Show older changes" })).toBeNull();
});
