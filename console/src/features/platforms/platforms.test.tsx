// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import type { Platform, Role } from "../../api/types";
import { draw, fakeApi, type Call } from "../../test/render";
import { PlatformsPage } from "./PlatformsPage";

const SHEETS: Platform[] = [
  {
    name: "Bramble TV",
    shipped: true,
    rules: [
      { rule: "note", value: "Made up, as all of them." },
      { rule: "video.max-lines", value: "1080" },
      { rule: "audio.needed", value: "" },
    ],
    destinations: ["One", "Two"],
  },
  { name: "Heather Live", shipped: false, rules: [], destinations: [] },
];
const RULES = [
  { rule: "video.max-lines", wants: "a number of lines, like 1080" },
  { rule: "video.max-fps", wants: "frames per second" },
];

function drawPage(role: Role = "admin", refusal?: { status: number; body: unknown }): Call[] {
  const calls = fakeApi(({ method, path }) => {
    if (method !== "GET") {
      return refusal ?? { status: 204, body: null };
    }
    return { status: 200, body: path.endsWith("platform-rules") ? RULES : SHEETS };
  });
  draw(<PlatformsPage />, { role });
  return calls;
}

const sheet = (name: string) => screen.findByRole("region", { name });

test("a sheet shows the rules that apply, whom it judges, and whose it is", async () => {
  drawPage();
  const ours = await sheet("Bramble TV");
  expect(ours.textContent).toContain("Made up, as all of them.");
  expect(ours.textContent).toContain("video.max-lines1080");
  expect(ours.textContent).not.toContain("audio.needed");
  expect(ours.textContent).toContain("Used by One and Two.");
  const own = await sheet("Heather Live");
  expect(own.textContent).toContain("No rules: every stream passes.");
  expect(own.textContent).toContain("No destination uses it.");
});

test("a sheet that ships cannot be removed, and one's own only after a word", async () => {
  const calls = drawPage();
  const user = userEvent.setup();
  expect(within(await sheet("Bramble TV")).queryByRole("button", { name: "Remove" })).toBeNull();
  await user.click(within(await sheet("Heather Live")).getByRole("button", { name: "Remove" }));
  expect(calls.some((call) => call.method === "DELETE")).toBe(false);
  await user.click(await screen.findByRole("button", { name: "Remove rule sheet" }));
  expect(calls.find((call) => call.method === "DELETE")?.path).toBe("/api/v1/platforms/Heather%20Live");
});

test("only rules that were changed are sent, and an emptied one is lifted", async () => {
  const calls = drawPage();
  const user = userEvent.setup();
  await user.click(within(await sheet("Bramble TV")).getByRole("button", { name: "Change" }));
  await user.clear(await screen.findByLabelText("video.max-lines"));
  await user.type(screen.getByLabelText("video.max-fps"), "25");
  await user.click(screen.getByRole("button", { name: "Save rule sheet" }));
  expect(calls.find((call) => call.method === "PATCH")?.body).toEqual({
    rules: { "video.max-lines": "", "video.max-fps": "25" },
  });
});

test("a refused rule is reported, and the input stays", async () => {
  const problem = { status: 422, code: "request.invalid", detail: '"many" is no number of lines.', field: "rules" };
  drawPage("admin", { status: 422, body: problem });
  const user = userEvent.setup();
  await user.click(within(await sheet("Bramble TV")).getByRole("button", { name: "Change" }));
  const lines = await screen.findByLabelText("video.max-lines");
  await user.clear(lines);
  await user.type(lines, "many");
  await user.click(screen.getByRole("button", { name: "Save rule sheet" }));
  expect(await screen.findByText('"many" is no number of lines.')).toBeTruthy();
  expect((lines as HTMLInputElement).value).toBe("many");
});

test("a new platform may begin with another one's rules", async () => {
  const calls = drawPage();
  const user = userEvent.setup();
  await sheet("Bramble TV");
  await user.click(screen.getByRole("button", { name: "Add a platform" }));
  await user.type(await screen.findByLabelText("Name"), "Fell Vision");
  await user.selectOptions(screen.getByLabelText("Copy the rules of"), "Bramble TV");
  await user.click(screen.getByRole("button", { name: "Add platform" }));
  expect(calls.find((call) => call.method === "POST")?.body).toEqual({
    name: "Fell Vision",
    rules: {},
    like: "Bramble TV",
  });
});

test.each(["viewer", "operator"] as const)("a %s reads sheets and changes none", async (role) => {
  drawPage(role);
  await sheet("Bramble TV");
  expect(screen.queryByRole("button", { name: /Change|Remove|Add a platform/ })).toBeNull();
});
