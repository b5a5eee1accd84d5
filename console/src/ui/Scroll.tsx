import type { ReactNode } from "react";

/** Content that may be wider than the page: it scrolls by itself, by keyboard too. */
export function Scroll({ label, children }: { label: string; children: ReactNode }): ReactNode {
  return (
    <div role="region" aria-label={label} tabIndex={0} className="overflow-x-auto">
      {children}
    </div>
  );
}
