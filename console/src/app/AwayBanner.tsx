import type { ReactNode } from "react";

import { SignInAgain } from "../features/session";
import { useLive, useReopen } from "./live/LiveProvider";

/** The service is away, or the session has ended; what is shown is from before. */
export function AwayBanner(): ReactNode {
  const live = useLive();
  const reopen = useReopen();
  if (!live.away) {
    return null;
  }
  const time = new Date(live.since).toLocaleTimeString("en-GB");
  if (live.signedOut) {
    return (
      <div role="alert" className="mb-4 rounded-lg border border-block bg-card px-4 py-2.5">
        <strong className="text-block">Your session has ended.</strong> What you see is from {time}.
        <SignInAgain onDone={reopen} />
      </div>
    );
  }
  return (
    <div role="alert" className="mb-4 rounded-lg border border-block bg-card px-4 py-2.5">
      <strong className="text-block">The service is away.</strong> What you see is from {time}. Trying again by itself.
    </div>
  );
}
