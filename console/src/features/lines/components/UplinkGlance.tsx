import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";

import { rate } from "../../../lib/format";
import { UplinkBar, budgetQuery, heaviest } from "../../budget";

/** Uplink with the highest load. */
export function UplinkGlance(): ReactNode {
  const budget = useQuery(budgetQuery());
  const uplink = budget.data === undefined ? undefined : heaviest(budget.data.uplinks);
  if (uplink === undefined) {
    return null;
  }
  const share = Math.round((uplink.sum_kbps / Math.max(1, uplink.uplink.up_kbps)) * 100);
  return (
    <Link to="/budget" className="block w-[calc(100vw-32px)] text-[12.5px] text-quiet hover:text-ink sm:w-[300px]">
      <strong className="font-semibold text-ink">Uplink {uplink.uplink.name}</strong>
      <UplinkBar budget={uplink} />
      {share} % of {rate(uplink.uplink.up_kbps)}
    </Link>
  );
}
