import type { EncoderFormat, EncoderSettings, Tuning, VideoOptions } from "../../api/types";

/** Settings as typed in the form. */
export type Typed = { codec: string; size: string; fps: string; kbps: string; keyframes: string; audio: string };

/** Returns the values of a form: those of the proposal where it changes something, else the configured ones. */
export function proposedValues({ configured, proposed }: Tuning): Typed {
  return {
    codec: proposed.codec ?? configured.codec,
    size: sizeText(proposed.size ?? configured),
    fps: numberText(proposed.fps ?? configured.fps),
    kbps: numberText(proposed.kbps ?? configured.kbps),
    keyframes: numberText(proposed.keyframe_interval_s ?? configured.keyframe_interval_s),
    audio: proposed.audio ?? configured.audio ?? "",
  };
}

/** Returns the settings of a form that differ from the configured ones. */
export function changedSettings(typed: Typed, configured: EncoderFormat): EncoderSettings {
  const settings: EncoderSettings = {};
  if (typed.codec !== configured.codec) {
    settings.codec = typed.codec;
  }
  if (typed.size !== sizeText(configured)) {
    const [width = 0, height = 0] = typed.size.split("×").map(Number);
    settings.size = { width, height };
  }
  if (typed.fps !== numberText(configured.fps)) {
    settings.fps = Number(typed.fps);
  }
  if (typed.kbps !== numberText(configured.kbps)) {
    settings.kbps = Math.round(Number(typed.kbps));
  }
  if (typed.keyframes !== numberText(configured.keyframe_interval_s)) {
    settings.keyframe_interval_s = Number(typed.keyframes);
  }
  if (typed.audio !== (configured.audio ?? "")) {
    settings.audio = typed.audio;
  }
  return settings;
}

/** Returns the profiles whose streams change as well. */
export function affectedProfiles(settings: EncoderSettings, tuning: Tuning): string[] {
  const { audio, ...video } = settings;
  const affected = [
    ...(Object.keys(video).length > 0 ? tuning.shared_with : []),
    ...(audio === undefined ? [] : tuning.audio_shared_with),
  ];
  return [...new Set(affected)];
}

/** Returns the options of a codec. */
export function optionsOf(tuning: Tuning, codec: string): VideoOptions | undefined {
  return tuning.offered.video.find((options) => options.codec === codec);
}

export function sizeText(size: { width: number; height: number }): string {
  return `${size.width}×${size.height}`;
}

/** Formats a number with up to two digits; empty if the camera does not state it. */
export function numberText(value: number | null | undefined): string {
  return value == null ? "" : (Math.round(value * 100) / 100).toString();
}
