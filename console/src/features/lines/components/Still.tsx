import { useEffect, useState, type ReactNode } from "react";

import { isFlowing } from "../../../lib/states";
import type { FeedState } from "../../../api/types";

/** A picture that could not be had is asked for again: a feed that has just begun may have none yet. */
const AGAIN_MS = 10_000;

/** A picture of a feed that flows; of one that does not there is none, and nobody dials a camera for it. */
export function Still({ feed, className = "" }: { feed: FeedState; className?: string }): ReactNode {
  const [failed, setFailed] = useState<string | null>(null);
  // A picture for each time that the feed began to flow.
  const source = `/api/v1/feeds/${encodeURIComponent(feed.name)}/still.jpg?since=${encodeURIComponent(feed.since ?? "")}`;
  useEffect(() => {
    if (failed === null) {
      return undefined;
    }
    const timer = setTimeout(() => setFailed(null), AGAIN_MS);
    return () => clearTimeout(timer);
  }, [failed]);
  const frame = `overflow-hidden rounded-md bg-hair ${className}`;
  const wanted = isFlowing(feed.state) && feed.video != null;
  if (!wanted || failed === source) {
    return (
      <span data-still={wanted || undefined} className={`grid place-items-center text-[11.5px] text-quiet ${frame}`}>
        <svg viewBox="0 0 30 26" width="34" aria-hidden="true" className="fill-none stroke-edge stroke-[1.6]">
          <path d="M1 24 L10 9 L16 18 L21 11 L29 24 Z" strokeLinejoin="round" />
        </svg>
      </span>
    );
  }
  return (
    <span data-still className={`block ${frame}`}>
      <img
        src={source}
        alt={`Latest picture of ${feed.name}`}
        loading="lazy"
        onError={() => setFailed(source)}
        className="size-full object-cover"
      />
    </span>
  );
}
