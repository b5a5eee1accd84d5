import { expect, test } from "vitest";

import type { Tuning } from "../../api/types";
import { changedSettings, optionsOf, proposedValues } from "./settings";

const TUNING = {
  configured: {
    codec: "H.264",
    width: 1920,
    height: 1080,
    fps: 25,
    kbps: 8000,
    keyframe_interval_s: 10,
    audio: "G.711",
  },
  proposed: { size: { width: 1280, height: 720 }, kbps: 3000, keyframe_interval_s: 2 },
  offered: { video: [{ codec: "H.264", sizes: [], fps: [25, 12.5, 8.333333] }], audio: ["G.711", "AAC"] },
} as unknown as Tuning;

test("form has the proposal, and the configured values elsewhere", () => {
  const typed = proposedValues(TUNING);
  expect(typed).toEqual({
    codec: "H.264",
    size: "1280×720",
    fps: "25",
    kbps: "3000",
    keyframes: "2",
    audio: "G.711",
  });
  expect(changedSettings(typed, TUNING.configured)).toEqual({
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
  expect(optionsOf(TUNING, "H.264")?.fps).toEqual([25, 12.5, 8.333333]);
  expect(optionsOf(TUNING, "H.265")).toBeUndefined();
});
