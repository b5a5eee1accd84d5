import type { FeedState } from "../../api/types";

/** Measurements of a feed in one line: `H.264 · 1280×720 · 25 fps · AAC`. */
export function factsOf(feed: FeedState): string {
  const { video, audio } = feed;
  if (video == null) {
    return "";
  }
  const parts = [video.codec, `${video.width}×${video.height}`];
  if (video.fps != null) {
    parts.push(`${Math.round(video.fps * 10) / 10} fps`);
  }
  if (audio != null) {
    parts.push(audio.codec);
  }
  return parts.join(" · ");
}
