import type { ReactNode } from "react";

import { SubNav } from "../../../ui/SubNav";

const WAYS = [
  { to: "/logbook", label: "Events" },
  { to: "/report", label: "Monthly report" },
  { to: "/audit", label: "Audit trail" },
] as const;

/** Navigation of logbook, report and audit trail. */
export function RecordNav(): ReactNode {
  return <SubNav label="Record" ways={WAYS} />;
}
