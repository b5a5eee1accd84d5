import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { ErrorMessage } from "./ErrorMessage";

type Props<T> = {
  query: UseQueryResult<T>;
  /** Height of the placeholder, against layout shifts. */
  height?: number;
  children: (data: T) => ReactNode;
};

/** State of a query: loading, failed, or loaded. Loaded data stays while it is refetched. */
export function QueryBoundary<T>({ query, height = 160, children }: Props<T>): ReactNode {
  if (query.data !== undefined) {
    return children(query.data);
  }
  if (query.error !== null) {
    return <ErrorMessage error={query.error} />;
  }
  return (
    <div
      role="status"
      aria-label="Looking"
      style={{ minHeight: height }}
      className="rounded-[10px] border border-hair bg-card/50 p-4 text-quiet"
    >
      Loading …
    </div>
  );
}
