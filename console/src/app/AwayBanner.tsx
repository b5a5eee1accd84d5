import type { ReactNode } from "react";

import { useLive } from "./live/LiveProvider";

/** The service is away; what is shown is from before. */
export function AwayBanner(): ReactNode {
  const live = useLive();
  if (!live.away) {
    return null;
  }
  const time = new Date(live.since).toLocaleTimeString("en-GB");
  return (
    <div role="alert" className="mb-4 rounded-lg border border-block bg-card px-4 py-2.5">
      <strong className="text-block">The service is away.</strong> What you see is from {time}. Trying again by itself.
    </div>
  );
}
