import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import type { Role } from "../../api/types";
import { sessionQuery } from "./queries";

const ORDER: readonly Role[] = ["viewer", "operator", "admin"];

/** Permissions of each role. */
export const ROLES: readonly { value: Role; label: string; help: string }[] = [
  { value: "viewer", label: "viewer", help: "views everything except secrets" },
  { value: "operator", label: "operator", help: "starts, stops, holds and rekeys as well" },
  { value: "admin", label: "admin", help: "changes everything, and manages people" },
];

/** Whether the signed-in person has the permissions of `role`. The service decides; this only hides actions that it would refuse. */
export function useMay(role: Role): boolean {
  const session = useQuery(sessionQuery());
  return session.data !== undefined && ORDER.indexOf(session.data.role) >= ORDER.indexOf(role);
}

/** Renders content only for a role. */
export function May({ role, children }: { role: Role; children: ReactNode }): ReactNode {
  return useMay(role) ? children : null;
}
