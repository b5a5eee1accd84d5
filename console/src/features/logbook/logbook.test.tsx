// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";

import type { LogEntry, Report } from "../../api/types";
import { draw, fakeApi } from "../../test/render";
import { LogbookPage } from "./LogbookPage";
import { ReportPage } from "./ReportPage";

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

test("the logbook stands latest first, in words, and is filtered by the service", async () => {
  const entries = [
    line(1),
    line(2, {
      kind: "push",
      part: "Bramble TV",
      what: "waiting",
      code: "push.no-answer",
      side: "platform",
      message: "It does not answer.",
      who: null,
    }),
  ];
  const calls = fakeApi(() => ({ status: 200, body: entries }));
  const user = userEvent.setup();
  draw(<LogbookPage />, { at: "/logbook?about=Summit" });
  const lines = within(await screen.findByRole("region", { name: "Lines" })).getAllByRole("listitem");
  expect(lines[0]?.textContent).toContain("Summit → Bramble TV");
  expect(lines[0]?.textContent).toContain("waiting: It does not answer. · push.no-answer");
  expect(lines[1]?.textContent).toContain("stopped by night desk");
  expect(calls[0]?.path).toBe("/api/v1/logbook?limit=200&about=Summit");
  await user.selectOptions(screen.getByLabelText("Side"), "platform");
  await user.selectOptions(screen.getByLabelText("Origin"), "Events");
  expect(calls.at(-1)?.path).toBe("/api/v1/logbook?limit=200&about=Summit&side=platform&changes=false");
});

test("older lines are fetched on demand", async () => {
  const calls = fakeApi(() => ({ status: 200, body: Array.from({ length: 200 }, (_, at) => line(at)) }));
  const user = userEvent.setup();
  draw(<LogbookPage />, { at: "/logbook" });
  await user.click(await screen.findByRole("button", { name: "Show older entries (200 shown)" }));
  expect(calls.at(-1)?.path).toBe("/api/v1/logbook?limit=400");
});

const REPORT: Report = {
  month: "2026-11",
  from: "2026-11-01T00:00:00Z",
  to: "2026-11-26T03:00:00Z",
  sites: [],
  lines: [
    {
      kind: "relay",
      name: "Summit",
      part: null,
      wanted_s: 86_400,
      down_s: 60,
      outages: 1,
      longest_s: 60,
      availability_percent: 99.931,
      shares: [{ side: "camera", down_s: 60 }],
    },
  ],
  outages: [
    {
      kind: "feed",
      name: "=Summit",
      part: null,
      begin: "2026-11-26T03:00:00Z",
      end: null,
      down_s: 60,
      code: "feed.stalled",
      side: "camera",
      message: "No picture comes.",
    },
  ],
};

test("a report tells shares by side, and outages as a file that is no formula", async () => {
  fakeApi(() => ({ status: 200, body: REPORT }));
  const files: Blob[] = [];
  vi.stubGlobal(
    "URL",
    Object.assign(URL, {
      createObjectURL: (file: Blob) => (files.push(file), "blob:x"),
      revokeObjectURL: () => undefined,
    }),
  );
  const click = vi.spyOn(HTMLAnchorElement.prototype, "click").mockReturnValue();
  const user = userEvent.setup();
  draw(<ReportPage />);
  const row = (await screen.findByText("99.931 %")).closest("tr");
  expect(row?.textContent).toContain("camera 1 min 00 s");
  await user.click(screen.getByRole("button", { name: "Outages as CSV" }));
  expect(click).toHaveBeenCalledOnce();
  expect(await files[0]?.text()).toContain(
    "feed,'=Summit,,2026-11-26T03:00:00Z,,60,feed.stalled,camera,No picture comes.\r\n",
  );
});

test("a month in which nothing ran has nothing to answer for", async () => {
  fakeApi(() => ({ status: 200, body: { ...REPORT, lines: [], outages: [] } }));
  draw(<ReportPage />);
  expect(await screen.findByText("No broadcasts in this month")).toBeTruthy();
});
