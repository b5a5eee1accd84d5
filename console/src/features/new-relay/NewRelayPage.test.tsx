// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Route, Routes } from "react-router";
import { beforeEach, expect, test, vi } from "vitest";

import { push, relay } from "../../test/railway";
import { destination, keptFeed } from "../../test/records";
import { draw, fakeApi } from "../../test/render";
import { NewRelayPage } from "./NewRelayPage";

vi.mock("../preview", () => ({ LivePicture: () => null, PreviewDialog: () => null }));

beforeEach(() => window.localStorage.clear());

function drawPath(role: "admin" | "operator" = "admin") {
  return draw(
    <Routes>
      <Route path="/new" element={<NewRelayPage />} />
      <Route path="/relays/:name" element={<p>the relay</p>} />
    </Routes>,
    { at: "/new", role },
  );
}

test("the path goes from a saved camera and a saved destination to a start", async () => {
  const check = { subject: "Summit", check: "audio", level: "warn", reason: "no audio", next_step: null };
  let saved = false;
  const calls = fakeApi((call) => {
    const ours = relay("Summit", {
      wanted: "off",
      feed: { ...relay("x").feed, name: "Summit" },
      pushes: [push("Bramble TV", { state: "off" })],
    });
    switch (`${call.method} ${call.path}`) {
      case "GET /api/v1/feeds":
        return { status: 200, body: [keptFeed("Summit")] };
      case "GET /api/v1/destinations":
        return { status: 200, body: [destination("Bramble TV")] };
      case "GET /api/v1/platforms":
      case "GET /api/v1/uplinks":
        return { status: 200, body: [] };
      case "GET /api/v1/relays":
        return { status: 200, body: saved ? [ours] : [] };
      case "POST /api/v1/relays":
        saved = true;
        return { status: 201, body: ours };
      case "POST /api/v1/relays/Summit/preflight":
        return { status: 200, body: { relay: "Summit", level: "warn", at: "", checks: [check] } };
      default:
        return { status: 200, body: ours };
    }
  });
  const user = userEvent.setup();
  const { client } = drawPath();
  await user.click(await screen.findByRole("tab", { name: "Saved feed (1)" }));
  await user.selectOptions(screen.getByLabelText("Feed"), "Summit");
  await user.click(screen.getByRole("button", { name: "Continue with this feed" }));
  await user.click(screen.getByRole("button", { name: "Continue to the destinations" }));
  expect(screen.getByRole("button", { name: "Continue to the checks" }).hasAttribute("disabled")).toBe(true);
  await user.click(screen.getByRole("tab", { name: "Saved destinations (1)" }));
  await user.click(await screen.findByRole("checkbox", { name: /Bramble TV/ }));
  await user.click(screen.getByRole("button", { name: "Continue to the checks" }));
  // The name of the camera is a good name.
  expect(screen.getByLabelText<HTMLInputElement>("Name of the relay").value).toBe("Summit");
  await user.click(screen.getByRole("button", { name: "Save and check" }));
  expect(calls.find((call) => call.method === "POST" && call.path === "/api/v1/relays")?.body).toEqual({
    name: "Summit",
    feed: "Summit",
    to: ["Bramble TV"],
  });
  // The event stream tells of it.
  await client.refetchQueries({ queryKey: ["relays"] });
  await user.click(await screen.findByRole("button", { name: "Run the preflight" }));
  expect(await screen.findByText(/no audio/)).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "Start Summit" }));
  expect(await screen.findByText("the relay")).toBeTruthy();
  expect(window.localStorage.getItem("yonder-new-relay")).toBeNull();
});

test("an encoder is added and connected on the path", async () => {
  const encoder = keptFeed("Bandstand", {
    url: "",
    ingest: { key_set_at: "2026-11-30T12:00:00Z", former_key_until: null, has_passphrase: false, key_length: 128 },
  });
  let saved = false;
  const calls = fakeApi((call) => {
    switch (`${call.method} ${call.path}`) {
      case "GET /api/v1/feeds":
        return { status: 200, body: saved ? [encoder] : [] };
      case "POST /api/v1/feeds":
        saved = true;
        return { status: 201, body: encoder };
      default:
        return { status: 200, body: [] };
    }
  });
  const user = userEvent.setup();
  drawPath();
  await user.click(await screen.findByRole("tab", { name: "Encoder that pushes" }));
  await user.type(screen.getByLabelText("Name"), "Bandstand");
  await user.click(screen.getByRole("button", { name: "Save encoder" }));
  expect(await screen.findByRole("button", { name: "Connect an encoder" })).toBeTruthy();
  expect(screen.getByRole("region", { name: "Encoder" }).textContent).toContain("none publishes");
  expect(screen.getByRole("link", { name: "Change encoder" })).toBeTruthy();
  expect(calls.find((call) => call.method === "POST")?.body).toEqual({
    name: "Bandstand",
    ingest: true,
    key_length: 128,
  });
});

test("a check that an adaptation solves has a button for it", async () => {
  window.localStorage.setItem(
    "yonder-new-relay",
    JSON.stringify({ step: "check", feed: "Summit", to: ["Bramble TV"], name: "Summit", survey: "" }),
  );
  const size = {
    subject: "Bramble TV",
    check: "size",
    level: "fail",
    reason: "the feed has 1920×1080",
    next_step: "Let the service adapt it.",
    adapt: "all",
  };
  const made = { ...size, check: "rendition", level: "pass", reason: "sent as H.264", next_step: null, adapt: null };
  let isAdapted = false;
  const calls = fakeApi((call) => {
    const ours = relay("Summit", {
      wanted: "off",
      feed: { ...relay("x").feed, name: "Summit" },
      pushes: [push("Bramble TV", { state: "off" })],
    });
    switch (`${call.method} ${call.path}`) {
      case "GET /api/v1/relays":
        return { status: 200, body: [ours] };
      case "PATCH /api/v1/relays/Summit":
        isAdapted = true;
        return { status: 200, body: { ...ours, adapt: "all" } };
      case "POST /api/v1/relays/Summit/preflight": {
        const check = isAdapted ? made : size;
        return { status: 200, body: { relay: "Summit", level: check.level, at: "", checks: [check] } };
      }
      default:
        return { status: 200, body: [] };
    }
  });
  const user = userEvent.setup();
  drawPath();
  await user.click(await screen.findByRole("button", { name: "Run the preflight" }));
  await user.click(await screen.findByRole("button", { name: "Adapt audio and video" }));
  expect(await screen.findByText(/sent as H.264/)).toBeTruthy();
  expect(calls.find((call) => call.method === "PATCH")?.body).toEqual({ adapt: "all" });
  expect(screen.queryByRole("button", { name: "Adapt audio and video" })).toBeNull();
  expect(screen.getByRole("button", { name: "Start Summit" }).hasAttribute("disabled")).toBe(false);
});

test("what was begun is there again, and steps can be gone back to", async () => {
  window.localStorage.setItem(
    "yonder-new-relay",
    JSON.stringify({ step: "destination", feed: "Summit", to: [], name: "", survey: "" }),
  );
  fakeApi(() => ({ status: 200, body: [] }));
  const user = userEvent.setup();
  drawPath();
  expect(await screen.findByText("No destination chosen.")).toBeTruthy();
  const steps = screen.getByRole("navigation", { name: "Steps" });
  expect(steps.querySelector("[aria-current=step]")?.textContent).toContain("Destinations");
  expect(screen.getByRole("button", { name: /Check and start/ }).hasAttribute("disabled")).toBe(true);
  await user.click(screen.getByRole("button", { name: /^Feed/ }));
  expect(screen.getByRole("tab", { name: "Enter an address" })).toBeTruthy();
  await user.click(screen.getByRole("button", { name: "Start over" }));
  expect(screen.getByRole("button", { name: /Survey/ }).hasAttribute("disabled")).toBe(true);
});

test("a person without the role of an admin sees who sets up relays", async () => {
  fakeApi(() => ({ status: 200, body: [] }));
  drawPath("operator");
  expect(await screen.findByText("Only admins set up relays")).toBeTruthy();
});
