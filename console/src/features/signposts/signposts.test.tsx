// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import type { Signpost } from "../../api/types";
import { relay } from "../../test/railway";
import { draw, fakeApi } from "../../test/render";
import { SignpostsPage } from "./SignpostsPage";

const PAGE = "https://watch.example.net/w/summit";

function signpost(change: Partial<Signpost> = {}): Signpost {
  return {
    name: "summit",
    id: "1",
    revision: 3,
    relay: "Summit Station",
    title: "The summit",
    player: true,
    to: [],
    unlisted: false,
    status_page: false,
    max_viewers: 500,
    daily_bytes: 20_000_000_000,
    state: "live",
    leads_to: null,
    links: {
      page: PAGE,
      go: `${PAGE}/go`,
      embed: `${PAGE}/embed`,
      playlist: `${PAGE}/live.m3u8`,
      status: null,
      snippet: `<iframe src="${PAGE}/embed"></iframe>`,
    },
    viewers: 12,
    viewers_today: 340,
    bytes_today: 3_000_000_000,
    ...change,
  };
}

function drawPage(signposts: Signpost[]) {
  const calls = fakeApi((call) => {
    switch (`${call.method} ${call.path}`) {
      case "GET /api/v1/signposts":
        return { status: 200, body: signposts };
      case "GET /api/v1/relays":
        return { status: 200, body: [relay("Summit Station")] };
      default:
        return { status: 200, body: signposts[0] ?? signpost() };
    }
  });
  draw(<SignpostsPage />);
  return calls;
}

test("a card shows state, viewers and addresses", async () => {
  drawPage([signpost()]);
  const card = within(await screen.findByRole("region", { name: "summit" }));
  expect(card.getByText("live")).toBeTruthy();
  expect(card.getByText("12 of 500")).toBeTruthy();
  expect(card.getByText(/340 viewers and 3\S* GB of 20\S* GB/)).toBeTruthy();
  expect(card.getByLabelText("Link of summit").textContent).toBe(PAGE);
  await userEvent.setup().click(card.getByRole("button", { name: "Addresses" }));
  expect(screen.getByLabelText("Code for a website").textContent).toContain("<iframe");
  expect(screen.queryByLabelText("Status page")).toBeNull();
});

test("a new signpost is sent with what was typed", async () => {
  const calls = drawPage([]);
  const user = userEvent.setup();
  expect(await screen.findByText("No signposts yet")).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "Add a signpost" }));
  const dialog = within(screen.getByRole("dialog"));
  await user.type(dialog.getByLabelText("Alias"), "summit");
  await dialog.findByRole("option", { name: "Summit Station" });
  await user.selectOptions(dialog.getByLabelText("Relay"), "Summit Station");
  await user.click(dialog.getByLabelText(/Append random letters/));
  await user.click(dialog.getByRole("button", { name: "Add signpost" }));
  expect(calls.find((call) => call.method === "POST")?.body).toEqual({
    name: "summit",
    relay: "Summit Station",
    player: true,
    unlisted: false,
    random: true,
    status_page: false,
    max_viewers: 500,
  });
});

test("a change sends what differs, and operators pause and resume", async () => {
  const calls = drawPage([signpost({ state: "paused" })]);
  const user = userEvent.setup();
  await user.click(await screen.findByRole("button", { name: "Change" }));
  const dialog = within(screen.getByRole("dialog"));
  await user.clear(dialog.getByLabelText("Volume to viewers in a day"));
  await user.click(dialog.getByLabelText(/availability of today/));
  await user.click(dialog.getByRole("button", { name: "Save" }));
  const changed = calls.find((call) => call.method === "PATCH");
  expect(changed?.body).toEqual({ daily: "", status_page: true });
  await user.click(await screen.findByRole("button", { name: "Resume" }));
  expect(calls.some((call) => call.path === "/api/v1/signposts/summit/resume")).toBe(true);
});

test("without a public listener the page names the option that starts it", async () => {
  drawPage([signpost({ links: null, state: "off-air" })]);
  expect(await screen.findByText(/--public/)).toBeTruthy();
  expect(screen.queryByRole("button", { name: "Addresses" })).toBeNull();
});
