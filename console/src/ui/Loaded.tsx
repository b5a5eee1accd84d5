import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Fault } from "./Fault";

type Props<T> = {
  query: UseQueryResult<T>;
  /** Keeps the place of what is to come, so that nothing jumps. */
  height?: number;
  children: (data: T) => ReactNode;
};

/** State of a query: loading, failed, or loaded. Loaded data stays while it is refetched. */
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
