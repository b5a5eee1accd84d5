import type { ReactNode } from "react";

import type { Check } from "../api/types";
import { CheckBadge } from "./CheckBadge";

const ORDER = ["fail", "warn", "pass"];

/** Checks by severity, each with its reason and next step. */
export function Checks({ checks }: { checks: readonly Check[] }): ReactNode {
  const sorted = [...checks].sort((a, b) => ORDER.indexOf(a.level) - ORDER.indexOf(b.level));
  return (
    <ul aria-label="Checks" className="grid gap-1.5 text-[13px]">
      {sorted.map((check) => (
        <li key={check.subject + check.check} className="grid grid-cols-[64px_minmax(0,1fr)] gap-x-2">
          <CheckBadge level={check.level} />
          <span>
            <strong className="font-semibold">{check.subject}</strong>, {check.check}: {check.reason}
            {check.next_step != null && <span className="text-quiet"> {check.next_step}</span>}
          </span>
        </li>
      ))}
    </ul>
  );
}
