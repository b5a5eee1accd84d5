import type { ReactNode } from "react";

/** The service is away; what is shown is from before. */
export function AwayBanner({ since }: { since: number }): ReactNode {
  const time = new Date(since).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit" });
  return (
    <div role="alert" className="mb-4 rounded-lg border border-block bg-card px-4 py-2.5">
      <strong className="text-block">The service is away.</strong> What you see is from {time}. Trying again by itself.
    </div>
  );
}
