import type { ReactNode } from "react";

/** Horizontally scrolling content, also by keyboard. */
export function Scroll({ label, children }: { label: string; children: ReactNode }): ReactNode {
  return (
    <div role="region" aria-label={label} tabIndex={0} className="overflow-x-auto">
      {children}
    </div>
  );
}
