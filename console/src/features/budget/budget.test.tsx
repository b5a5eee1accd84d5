// @vitest-environment jsdom
import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import type { Budget } from "../../api/types";
import { uplink, uplinkBudget } from "../../test/records";
import { draw, fakeApi } from "../../test/render";
import { BudgetPage } from "./BudgetPage";
import { UplinkForm } from "./components/UplinkForm";
import { type Asked, NOTHING_ASKED, whatIfOf } from "./components/WhatIfPanel";
import { heaviest } from "./queries";

const BUDGET: Budget = {
  uplinks: [
    uplinkBudget("Office fibre"),
    uplinkBudget("Office radio", {
      uplink: uplink("Office radio", { backup: true, up_kbps: 2_000 }),
      verdict: "over",
      usable_kbps: 1_500,
    }),
  ],
  undescribed: [{ what: "Viaduct to Marrow Hall", kbps: null }],
  month: "2026-11",
  days_left: 5,
  fits: [
    {
      uplink: "Office fibre",
      destinations: 1,
      each_kbps: 28_800,
      rows: [
        { width: 1280, lines: 720, fps: 25, plain_kbps: 1_395, good_kbps: 2_316, fit: "good" },
        { width: 3840, lines: 2160, fps: 25, plain_kbps: 20_000, good_kbps: 40_000, fit: "no" },
      ],
    },
  ],
};

test.each<[Partial<Asked>, object]>([
  [{}, {}],
  [
    { more: "2", over: "srt" },
    { more: 2, over: "srt" },
  ],
  [{ more: "-1" }, {}],
  [{ more: "1.5" }, {}],
  [{ rate: "3" }, {}],
  [{ rate: " 3Mbit/s " }, { rate: "3Mbit/s" }],
  [
    { hours: "8", all: true },
    { hours: 8, all: true },
  ],
  [{ hours: "25" }, {}],
])("what is typed as %j asks for %j", (typed, asked) => {
  expect(whatIfOf({ ...NOTHING_ASKED, ...typed })).toEqual(asked);
});

test("a backup uplink is not the one that is nearest to its limit", () => {
  expect(heaviest(BUDGET.uplinks)?.uplink.name).toBe("Office fibre");
  expect(heaviest([])).toBeUndefined();
});

test("uplinks are shown with verdicts, and with what is not measured yet", async () => {
  fakeApi(() => ({ status: 200, body: BUDGET }));
  draw(<BudgetPage />);
  const fibre = await screen.findByRole("region", { name: "Uplink Office fibre" });
  expect(fibre.textContent).toContain("Fits.");
  expect(screen.getByRole("region", { name: "Uplink Office radio" }).textContent).toContain(
    "After a failover: Does not fit.",
  );
  expect(screen.getByText("not measured yet")).toBeTruthy();
  expect(screen.getByText(/looks good/)).toBeTruthy();
  expect(screen.getByText(/does not fit$/, { selector: "td" })).toBeTruthy();
});

test("a what-if is asked for as it is typed, and changes the title", async () => {
  const calls = fakeApi(() => ({ status: 200, body: BUDGET }));
  const user = userEvent.setup();
  draw(<BudgetPage />);
  await screen.findByRole("region", { name: "Uplink Office fibre" });
  await user.type(screen.getByLabelText("More pushes"), "3");
  await waitFor(() => expect(calls.at(-1)?.body).toEqual({ more: 3, over: "rtmp", destinations: 1 }));
  expect(await screen.findByRole("heading", { name: "Budget, what if" })).toBeTruthy();
});

test("an allowance that is not changed is sent as it was, to the byte", async () => {
  const calls = fakeApi(() => ({ status: 200, body: uplink("Office fibre") }));
  const user = userEvent.setup();
  draw(
    <UplinkForm
      uplink={uplink("Office fibre", { allowance_bytes: 1_234_567_000_000, site: "Yard" })}
      onDone={() => undefined}
    />,
  );
  await user.click(screen.getByRole("button", { name: "Save" }));
  expect(calls[0]?.body).toMatchObject({ allowance: "1234.567GB", rate: "40000kbit/s", site: "Yard", source: "" });
});
