import type { ReactNode } from "react";

import { ApiError } from "../api/client";

/** Error with its message, next step and code. */
export function ErrorMessage({ error }: { error: Error }): ReactNode {
  const known = error instanceof ApiError ? error : null;
  return (
    <div role="alert" className="rounded-md border border-block px-3 py-2 text-[13px]">
      <strong className="text-block">{error.message}</strong>
      {known?.hint != null && <span> {known.hint}</span>}
      {known !== null && <span className="text-quiet"> · {known.code}</span>}
    </div>
  );
}

/** Error of one field of a form, where the service names it. */
export function fieldError(error: Error | null, field: string): string | null {
  return error instanceof ApiError && error.field === field ? `${error.message} ${error.hint ?? ""}`.trim() : null;
}
