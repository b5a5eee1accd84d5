import { useEffect, useRef, useState, type ReactNode } from "react";

import { playPreview, previewUrl, type PreviewState } from "./player";

/** Live video of a feed. */
export function LivePicture({ feed, className = "" }: { feed: string; className?: string }): ReactNode {
  const video = useRef<HTMLVideoElement>(null);
  const [state, setState] = useState<PreviewState>({ kind: "waiting" });
  useEffect(() => {
    if (video.current === null) {
      return undefined;
    }
    return playPreview(video.current, previewUrl(feed), setState);
  }, [feed]);
  return (
    <>
      <video
        ref={video}
        aria-label={`Live video of ${feed}`}
        poster={`/api/v1/feeds/${encodeURIComponent(feed)}/still.jpg`}
        controls
        muted
        autoPlay
        playsInline
        className={`aspect-video w-full bg-black object-contain ${className}`}
      />
      <p role="status" className="min-h-5 px-3.5 pt-2 text-[12.5px] text-quiet">
        {sentence(state)}
      </p>
    </>
  );
}

function sentence(state: PreviewState): string {
  switch (state.kind) {
    case "waiting":
      return "Waiting for the next keyframe…";
    case "playing":
      return "Live.";
    case "unsupported":
      return `This browser cannot play ${state.mime}. The still image and the survey are available.`;
    case "ended":
      return state.cause === null
        ? "The preview has ended. Open it again to continue."
        : `${state.cause.message} ${state.cause.hint}`;
  }
}
