// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { beforeEach, expect, test, vi } from "vitest";

import type { Relay, Role } from "../../api/types";
import { cause, feed, push, relay } from "../../test/railway";
import { destination } from "../../test/records";
import { draw, fakeApi, type Call } from "../../test/render";
import { RelayPage } from "./RelayPage";
import { DialSteps } from "./components/DialSteps";
import { PushCard } from "./components/PushCard";
import { RelaySettings } from "./components/RelaySettings";

// Canvas and media are the browser's; what is drawn there is tested in a browser.
vi.mock("uplot", () => ({
  default: class {
    width = 0;
    setData(): void {}
    setSize(): void {}
    destroy(): void {}
  },
}));
vi.mock("../preview", () => ({
  LivePicture: ({ feed: name }: { feed: string }) => <p>picture of {name}</p>,
  PreviewDialog: () => null,
}));

const RATES = { from: "2026-11-26T03:00:00Z", step_s: 1, feed: [1, 2], pushes: [], outages: [] };
const VIDEO = {
  codec: "H.264",
  profile: "High",
  tier: null,
  level: 3.1,
  width: 1280,
  height: 720,
  declared_fps: 25,
  fps: 25,
  kbps: 2_180,
  keyframe_interval_s: 2,
};
let answers: Record<string, unknown>;
let calls: Call[];

beforeEach(() => {
  answers = {
    "GET /api/v1/relays/Summit/rates?range=hour": RATES,
    "GET /api/v1/relays/Summit/rates?range=day": { ...RATES, step_s: 10 },
    "GET /api/v1/destinations": [destination("Bramble TV"), destination("Marrow Hall", { relays: ["Viaduct"] })],
    "GET /api/v1/day": { from: "2026-11-25T03:00:00Z", step_s: 60, relays: [] },
    "GET /api/v1/logbook?about=Summit&limit=12": [],
  };
  calls = fakeApi((call) => ({ status: 200, body: answers[`${call.method} ${call.path}`] ?? relay("Summit") }));
});

function drawPage(shown: Relay, role: Role = "admin") {
  answers["GET /api/v1/relays"] = [shown];
  return draw(
    <Routes>
      <Route path="/relays/:name" element={<RelayPage />} />
      <Route path="/" element={<p>the lines</p>} />
    </Routes>,
    { at: "/relays/Summit", role },
  );
}

test("a relay shows its picture, its facts, its pushes and what they add up to", async () => {
  drawPage(
    relay("Summit", {
      site: "Fell",
      feed: feed({ video: VIDEO }),
      pushes: [push("Bramble TV"), push("Marrow Hall", { state: "dialing" })],
    }),
  );
  expect(await screen.findByText(/^picture of/)).toBeTruthy();
  expect(screen.getByText(/H\.264 High 3\.1 · 1280×720 · 25\.0 fps/)).toBeTruthy();
  expect(screen.getByText(/1 of 2 pushes live, Marrow Hall dialing/)).toBeTruthy();
  expect(screen.getByRole("region", { name: "Bramble TV" })).toBeTruthy();
  await userEvent.setup().click(screen.getByRole("button", { name: "day" }));
  expect(calls.some((call) => call.path.endsWith("rates?range=day"))).toBe(true);
});

test("a relay that is gone leads back to the lines", async () => {
  drawPage(relay("Other"));
  expect(await screen.findByText("There is no relay Summit")).toBeTruthy();
});

test("operators switch and check, and only admins change", async () => {
  drawPage(relay("Summit"), "operator");
  await screen.findByRole("button", { name: "Roll key" });
  const names = screen.getAllByRole("button").map((button) => button.textContent);
  expect(names).toEqual(expect.arrayContaining(["Hold", "Stop", "Preflight", "Rehearse", "Roll key"]));
  expect(names).not.toContain("Settings");
  expect(names).not.toContain("Remove");
});

test("a destination is added beside those that run", async () => {
  const user = userEvent.setup();
  drawPage(relay("Summit", { pushes: [push("Bramble TV")] }));
  await user.click(await screen.findByRole("button", { name: "Add a destination" }));
  const dialog = screen.getByRole("dialog");
  expect(dialog.textContent).toContain("Running broadcasts are not affected.");
  await within(dialog).findByRole("option", { name: "Marrow Hall (used by Viaduct)" });
  await user.selectOptions(within(dialog).getByLabelText("Destination"), "Marrow Hall (used by Viaduct)");
  await user.click(within(dialog).getByRole("button", { name: "Add" }));
  const change = calls.find((call) => call.method === "PATCH");
  expect([change?.path, change?.body]).toEqual(["/api/v1/relays/Summit", { to: ["Bramble TV", "Marrow Hall"] }]);
});

test("taking a push out says whose broadcast ends, and keeps the others", async () => {
  const user = userEvent.setup();
  drawPage(relay("Summit", { pushes: [push("Bramble TV"), push("Marrow Hall")] }));
  const card = await screen.findByRole("region", { name: "Marrow Hall" });
  await user.click(within(card).getByRole("button", { name: "Remove" }));
  expect(screen.getByRole("alertdialog").textContent).toContain("The broadcast on Marrow Hall ends");
  await user.click(screen.getByRole("button", { name: "End this broadcast" }));
  expect(calls.find((call) => call.method === "PATCH")?.body).toEqual({ to: ["Bramble TV"] });
});

test("a preflight is run by opening it, and tells the worst first", async () => {
  const check = (level: string, reason: string) => ({
    subject: "Bramble TV",
    check: level,
    level,
    reason,
    next_step: "Look.",
  });
  answers["POST /api/v1/relays/Summit/preflight"] = {
    relay: "Summit",
    level: "fail",
    at: "2026-11-26T03:00:00Z",
    checks: [check("pass", "fine"), check("fail", "no key"), check("warn", "close")],
  };
  const user = userEvent.setup();
  drawPage(relay("Summit"));
  await user.click(await screen.findByRole("button", { name: "Preflight" }));
  const checks = await screen.findByRole("list", { name: "Checks" });
  expect(
    within(checks)
      .getAllByRole("listitem")
      .map((item) => item.textContent?.slice(0, 4)),
  ).toEqual(["fail", "warn", "pass"]);
});

test("the steps of a dial tell what is done, what is waited for and what is to come", () => {
  const expected = ["name found", "connected", "greeted", "key accepted"] as const;
  const since = new Date(Date.now() - 4_000).toISOString();
  const steps = [
    { name: "name found", after_ms: 2 },
    { name: "connected", after_ms: 1_240 },
  ] as const;
  draw(<DialSteps expected={expected} steps={steps} end="live" state="dialing" since={since} />);
  const items = screen.getAllByRole("listitem");
  expect(items.map((item) => item.textContent)).toEqual([
    "name found2 ms",
    "connected1.2 s",
    "greeted4 s",
    "key accepted (to come)",
  ]);
  expect(items[2]?.getAttribute("aria-current")).toBe("step");
});

test("a push that lags says what gets through of what it needs", () => {
  const slow = push("Marrow Hall", {
    state: "lagging",
    kbps: 410,
    frames_dropped: 142,
    cause: cause({ code: "push.too-slow", side: "network", message: "The steps is too slow." }),
    link: {
      latency_ms: 120,
      rtt_ms: 84,
      sent: 1000,
      lost: 21,
      retransmitted: 19,
      dropped: 0,
      estimated_bandwidth_kbps: null,
      encrypted: true,
    },
  });
  draw(
    <PushCard
      relay={relay("Summit", { feed: feed({ video: VIDEO }) })}
      push={slow}
      destination={destination("Marrow Hall", { protocol: "srt" })}
    />,
  );
  const card = screen.getByRole("region", { name: "Marrow Hall" });
  expect(card.textContent).toContain("410 of 2\u202f180 kbit/s");
  expect(card.textContent).toContain("Network side.");
  expect(card.textContent).toContain("142 skipped · round trip 84 ms · lost 2.1 % · resent 1.9 %");
});

test("a warning of a live push is shown", () => {
  const warning = "The server has not announced that it takes H.265.";
  draw(
    <PushCard
      relay={relay("Summit")}
      push={push("Marrow Hall", { warning })}
      destination={destination("Marrow Hall")}
    />,
  );
  expect(screen.getByRole("region", { name: "Marrow Hall" }).textContent).toContain(warning);
});

test("settings send windows line by line, and a zone only with times", async () => {
  const user = userEvent.setup();
  draw(<RelaySettings relay={relay("Summit")} onDone={() => undefined} />);
  await user.clear(screen.getByLabelText("Holding picture after, in s"));
  await user.type(screen.getByLabelText("Holding picture after, in s"), "10");
  await user.click(screen.getByRole("button", { name: "Save" }));
  expect(calls.at(-1)?.body).toEqual({
    name: "Summit",
    hold_after_s: 10,
    on_air: [],
    quiet_minute: "",
    adapt: "audio",
    limits: {},
  });
  await user.type(screen.getByLabelText("On air"), "mon-fri 08:00-18:00\n\n sat 09:30-13:00");
  await user.clear(screen.getByLabelText("Time zone"));
  await user.type(screen.getByLabelText("Time zone"), "Europe/Lisbon");
  await user.click(screen.getByRole("button", { name: "Save" }));
  expect(calls.at(-1)?.body).toMatchObject({
    on_air: ["mon-fri 08:00-18:00", "sat 09:30-13:00"],
    zone: "Europe/Lisbon",
  });
});

test("a holding picture is uploaded as it is, and taken back", async () => {
  answers["PUT /api/v1/relays/Summit/holding-picture"] = null;
  const user = userEvent.setup();
  draw(<RelaySettings relay={relay("Summit", { holding_picture: true })} onDone={() => undefined} />);
  await user.upload(
    screen.getByLabelText("Choose another image"),
    new File(["png"], "pause.png", { type: "image/png" }),
  );
  await user.click(screen.getByRole("button", { name: "Use the default image" }));
  const done = calls.filter((call) => call.path.endsWith("holding-picture")).map((call) => call.method);
  expect(done).toEqual(["PUT", "DELETE"]);
});

test("a push shows what is adapted for it, and what that costs", async () => {
  fakeApi(() => ({ status: 200, body: [] }));
  const adapted = push("Thistle Stage", {
    rendition: {
      video: { codec: "H.264", width: 1280, height: 720, fps: 12.5, kbps: 2500, keyframe_interval_s: 2 },
      audio: { codec: "AAC", rate_hz: 48_000, channels: 2, kbps: 128, source: "silence" },
      shared_by: 2,
      cpu_cores: 0.358,
      frames_skipped: 7,
    },
  });
  const shown = relay("Crossing", { pushes: [adapted, push("Bramble TV")] });
  draw(<PushCard relay={shown} push={adapted} destination={undefined} />);
  const text = (await screen.findByText("Adapted")).closest("p")?.textContent;
  expect(text).toContain("H.264 1280×720 · 12.5 fps · 2\u202f500\u00a0kbit/s · AAC, silence · 48 kHz · 128 kbit/s");
  expect(text).toContain("36 % of one core · shared by 2 pushes · 7 frames skipped");
  await userEvent.setup().click(screen.getByRole("button", { name: "Compare" }));
  expect((await screen.findByAltText("Adapted")).getAttribute("src")).toContain(
    "/api/v1/relays/Crossing/pushes/Thistle%20Stage/still.jpg",
  );
});
