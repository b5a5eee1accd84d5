import type { Tuning } from "../api/types";

/** A camera of 1080 lines, of which a platform requires less. */
export const TUNING: Tuning = {
  feed: "Summit",
  device: "http://192.0.2.7/onvif/device_service",
  model: "Fellside 2",
  firmware: "1.4",
  profile: "main",
  configured: {
    codec: "H.264",
    width: 1920,
    height: 1080,
    fps: 25,
    kbps: 8000,
    keyframe_interval_s: 10,
    audio: null,
  },
  offered: {
    video: [
      {
        codec: "H.264",
        sizes: [
          { width: 1920, height: 1080 },
          { width: 1280, height: 720 },
        ],
        fps: [12.5, 25],
        kbps: { min: 128, max: 16384 },
        keyframe_frames: { min: 1, max: 600 },
      },
    ],
    audio: [],
  },
  proposed: { kbps: 3000, keyframe_interval_s: 2 },
  changes: [],
  reasons: [{ setting: "bit-rate", destination: "Thistle Stage", reason: "8000 kbit/s exceed 4000 kbit/s" }],
  missing: [],
  shared_with: [],
  audio_shared_with: [],
  on_air: [],
  undo: null,
};
