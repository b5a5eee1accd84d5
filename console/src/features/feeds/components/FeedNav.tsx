import type { ReactNode } from "react";

import { SubNav } from "../../../ui/SubNav";

const WAYS = [
  { to: "/feeds", label: "All feeds" },
  { to: "/find", label: "Find cameras" },
  { to: "/patterns", label: "Address patterns" },
] as const;

/** The ways to a camera: those that are kept, those that can be found, and what addresses look like. */
export function FeedNav(): ReactNode {
  return <SubNav label="Feeds" ways={WAYS} />;
}
