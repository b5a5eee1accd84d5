import type { ReactNode } from "react";

import { SubNav } from "../../../ui/SubNav";

const WAYS = [
  { to: "/logbook", label: "What happened" },
  { to: "/report", label: "Report of a month" },
  { to: "/audit", label: "Audit trail" },
] as const;

/** The record: line by line, and summed up. */
export function RecordNav(): ReactNode {
  return <SubNav label="Record" ways={WAYS} />;
}
