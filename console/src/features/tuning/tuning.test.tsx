// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";

import type { Check, Tuning, TuningResult } from "../../api/types";
import { relay } from "../../test/railway";
import { draw, fakeApi } from "../../test/render";
import { TUNING } from "../../test/tuning";
import { Button } from "../../ui/Button";
import { TuneButton } from "./TuneButton";
import { TuneDialog } from "./TuneDialog";

const RESULT: TuningResult = {
  feed: "Summit",
  settings: [
    {
      setting: "keyframes",
      before: "every 10 s",
      wanted: "every 2 s",
      reported: "every 2 s",
      measured: "every 10 s",
      outcome: "pending",
    },
  ],
  verified: false,
  elsewhere: [],
  message: "The camera has stored the change, but still sends the former keyframes.",
  next_step: "Restart the camera, then survey the feed again.",
};

const ADMIN = { status: 200, body: { name: "desk", role: "admin" } };

function api(tuning: Tuning, relays: readonly unknown[] = []) {
  return fakeApi((call) => {
    switch (`${call.method} ${call.path}`) {
      case "GET /api/v1/session":
        return ADMIN;
      case "GET /api/v1/relays":
        return { status: 200, body: relays };
      case "GET /api/v1/feeds/Summit/tuning":
        return { status: 200, body: tuning };
      default:
        return { status: 200, body: RESULT };
    }
  });
}

async function open(tuning: Tuning) {
  const calls = api(tuning);
  const user = userEvent.setup();
  draw(<TuneDialog feed="Summit" trigger={<Button>Camera settings</Button>} />);
  await user.click(screen.getByRole("button", { name: "Camera settings" }));
  await screen.findByLabelText("Bit rate, kbit/s");
  return { calls, user, change: () => calls.find((call) => call.method === "POST")?.body };
}

test("the proposal is filled in, and sent as it is shown or changed", async () => {
  const { user, change } = await open(TUNING);
  expect(screen.getByLabelText<HTMLInputElement>("Bit rate, kbit/s").value).toBe("3000");
  expect(screen.getByText(/8000 kbit\/s exceed 4000 kbit\/s/)).toBeTruthy();
  await user.selectOptions(screen.getByLabelText("Frame size"), "1280×720");
  await user.click(screen.getByRole("button", { name: "Change the camera" }));
  const settings = { size: { width: 1280, height: 720 }, kbps: 3000, keyframe_interval_s: 2 };
  expect(change()).toEqual({ settings, shared: false });
  const result = within(await screen.findByRole("region", { name: "Result" }));
  expect(result.getByText("stored, not sent yet")).toBeTruthy();
  expect(result.getByText(/Restart the camera/)).toBeTruthy();
});

test("an encoder of other profiles is only changed with consent", async () => {
  const { user, change } = await open({ ...TUNING, shared_with: ["sub"] });
  const button = screen.getByRole("button", { name: "Change the camera" });
  expect(button.hasAttribute("disabled")).toBe(true);
  await user.click(screen.getByRole("checkbox"));
  await user.click(button);
  expect(change()).toMatchObject({ shared: true });
});

test("an audio encoder of other profiles needs consent only if the audio is changed", async () => {
  const { user } = await open({
    ...TUNING,
    offered: { ...TUNING.offered, audio: ["AAC", "G.711"] },
    configured: { ...TUNING.configured, audio: "G.711" },
    audio_shared_with: ["sub"],
  });
  expect(screen.queryByRole("checkbox")).toBeNull();
  await user.selectOptions(screen.getByLabelText("Audio"), "AAC");
  expect(screen.getByRole("checkbox", { name: /The streams of sub change, too/ })).toBeTruthy();
});

test("the last change can be undone", async () => {
  const undo = { at: "2026-11-30T12:00:00Z", before: TUNING.configured };
  const { user, change } = await open({ ...TUNING, undo });
  await user.click(screen.getByRole("button", { name: "Undo the last change" }));
  expect(change()).toEqual({ undo: true, shared: false });
});

const CHECK: Check = {
  subject: "Thistle Stage",
  check: "keyframes",
  level: "fail",
  reason: "keyframes are 10.0 s apart",
  next_step: null,
  tune: true,
};

test("one click applies the proposal to a camera that is not on air", async () => {
  const calls = api(TUNING);
  const tuned = vi.fn();
  const user = userEvent.setup();
  draw(<TuneButton feed="Summit" checks={[CHECK]} onTuned={tuned} />);
  await user.click(await screen.findByRole("button", { name: "Tune the camera" }));
  await screen.findByRole("region", { name: "Result" });
  const change = calls.find((call) => call.method === "POST");
  expect([change?.path, change?.body]).toEqual(["/api/v1/feeds/Summit/tuning", {}]);
  expect(tuned).toHaveBeenCalledOnce();
});

test("a camera on air is changed after a confirmation", async () => {
  const onAir = relay("Line", { wanted: "on", feed: { ...relay("x").feed, name: "Summit" } });
  const calls = api(TUNING, [onAir]);
  const user = userEvent.setup();
  draw(<TuneButton feed="Summit" checks={[CHECK]} onTuned={() => undefined} />);
  await user.click(await screen.findByRole("button", { name: "Tune the camera" }));
  expect(calls.some((call) => call.method === "POST")).toBe(false);
  await user.click(await screen.findByRole("button", { name: "Change the camera" }));
  await screen.findByRole("region", { name: "Result" });
});

test("nothing is offered where the camera cannot help", async () => {
  api(TUNING);
  draw(
    <>
      <TuneButton feed="Summit" checks={[{ ...CHECK, tune: false }]} onTuned={() => undefined} />
      <TuneButton feed="Viaduct" checks={[CHECK]} onTuned={() => undefined} />
    </>,
  );
  // The other one is drawn once the relays are known.
  await screen.findByRole("button", { name: "Tune the camera" });
  expect(screen.getAllByRole("button", { name: "Tune the camera" })).toHaveLength(1);
});
