import type { ReactNode } from "react";

import { SignInAgain } from "../features/session";
import { useLive, useReopen } from "./live/LiveProvider";

/** Banner while the service is unreachable, or after the session has ended. */
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
        <strong className="text-block">Your session has ended.</strong> This page shows the state of {time}.
        <SignInAgain onDone={reopen} />
      </div>
    );
  }
  return (
    <div role="alert" className="mb-4 rounded-lg border border-block bg-card px-4 py-2.5">
      <strong className="text-block">No connection to the service.</strong> This page shows the state of {time}.
      Reconnecting automatically.
    </div>
  );
}
