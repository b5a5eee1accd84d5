import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Fault } from "./Fault";

type Props<T> = {
  query: UseQueryResult<T>;
  /** Keeps the place of what is to come, so that nothing jumps. */
  height?: number;
  children: (data: T) => ReactNode;
};

/** What was asked for: on its way, failed, or there. What is there stays while it is asked for anew. */
export function Loaded<T>({ query, height = 160, children }: Props<T>): ReactNode {
  if (query.data !== undefined) {
    return children(query.data);
  }
  if (query.error !== null) {
    return <Fault error={query.error} />;
  }
  return (
    <div role="status" aria-label="Looking" style={{ minHeight: height }} className="rounded-[10px] border border-hair bg-card/50 p-4 text-quiet">
      Looking …
    </div>
  );
}
