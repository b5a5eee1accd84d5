import { expect, test } from "vitest";

import type { Tuning } from "../../api/types";
import { TUNING } from "../../test/tuning";
import { changedSettings, optionsOf, proposedValues } from "./settings";

const WITH_SIZE: Tuning = {
  ...TUNING,
  proposed: { ...TUNING.proposed, size: { width: 1280, height: 720 } },
};

test("form has the proposal, and the configured values elsewhere", () => {
  const typed = proposedValues(WITH_SIZE);
  expect(typed).toEqual({
    codec: "H.264",
    size: "1280×720",
    fps: "25",
    kbps: "3000",
    keyframes: "2",
    audio: "",
  });
  expect(changedSettings(typed, WITH_SIZE.configured)).toEqual({
    size: { width: 1280, height: 720 },
    kbps: 3000,
    keyframe_interval_s: 2,
  });
});

test("configured values are no change", () => {
  const unchanged = { ...TUNING, proposed: {} };
  expect(changedSettings(proposedValues(unchanged), TUNING.configured)).toEqual({});
});

test("settings that the camera does not state are empty", () => {
  const silent = { ...TUNING, proposed: {}, configured: { ...TUNING.configured, kbps: null, audio: null } };
  const typed = proposedValues(silent);
  expect([typed.kbps, typed.audio]).toEqual(["", ""]);
  expect(changedSettings({ ...typed, kbps: "2000" }, silent.configured)).toEqual({ kbps: 2000 });
});

test("options are those of the codec", () => {
  expect(optionsOf(TUNING, "H.264")?.fps).toEqual([12.5, 25]);
  expect(optionsOf(TUNING, "H.265")).toBeUndefined();
});
