import type { ReactNode } from "react";

import type { UplinkBudget } from "../../../api/types";
import { rate } from "../../../lib/format";

const FILLS: Record<string, string> = { fits: "fill-flow", tight: "fill-wait", over: "fill-block" };

/** Load of an uplink against its rate, with a mark where the headroom begins. */
export function UplinkBar({ budget, tall = false }: { budget: UplinkBudget; tall?: boolean }): ReactNode {
  const { sum_kbps: sum, usable_kbps: usable, verdict } = budget;
  const up = Math.max(1, budget.uplink.up_kbps);
  // A load above the rate is drawn as well.
  const scale = Math.max(up, sum);
  const height = tall ? 16 : 9;
  let from = 0;
  return (
    <svg
      role="img"
      aria-label={`${rate(sum)} of ${rate(up)}; headroom begins at ${rate(usable)}`}
      viewBox={`0 0 100 ${height + 6}`}
      preserveAspectRatio="none"
      style={{ height: height + 6 }}
      className="my-1 block w-full"
    >
      <rect x="0" y="3" width={(up / scale) * 100} height={height} rx="1" className="fill-hair" />
      {budget.loads.map((load) => {
        const begin = from;
        from += ((load.kbps ?? 0) / scale) * 100;
        return (
          <rect
            key={load.what}
            x={begin}
            y="3"
            width={Math.max(0, from - begin - (tall ? 0.25 : 0))}
            height={height}
            className={FILLS[verdict] ?? "fill-flow"}
          />
        );
      })}
      <rect x={(usable / scale) * 100 - 0.25} y="0" width="0.5" height={height + 6} className="fill-ink" />
    </svg>
  );
}
