import type { ReactNode } from "react";

import type { WhatFits } from "../../../api/types";
import { rate } from "../../../lib/format";
import { Scroll } from "../../../ui/Scroll";

const MARKS: Record<string, { word: string; tone: string }> = {
  good: { word: "looks good", tone: "bg-flow text-card" },
  plain: { word: "looks plain", tone: "border border-wait text-wait" },
  no: { word: "does not fit", tone: "text-quiet" },
};

/** Which sizes and frame rates fit in what an uplink gives to each destination. */
export function FitsChart({ fits }: { fits: WhatFits }): ReactNode {
  const speeds = [...new Set(fits.rows.map((row) => row.fps))].sort((a, b) => a - b);
  const sizes = [...new Set(fits.rows.map((row) => `${row.width}×${row.lines}`))];
  return (
    <Scroll label={`Capacity of ${fits.uplink}`}>
      <table className="w-full min-w-[420px] border-separate border-spacing-1 text-center text-[13px]">
        <caption className="pb-2 text-left text-[13px] text-quiet">
          {rate(fits.each_kbps)} for each of {fits.destinations} on {fits.uplink}
        </caption>
        <thead>
          <tr>
            <th scope="col" className="text-left font-semibold">
              Size
            </th>
            {speeds.map((fps) => (
              <th key={fps} scope="col" className="font-semibold">
                {fps} frames/s
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sizes.map((size) => (
            <tr key={size}>
              <th scope="row" className="text-left font-[550] whitespace-nowrap">
                {size}
              </th>
              {speeds.map((fps) => {
                const row = fits.rows.find((each) => `${each.width}×${each.lines}` === size && each.fps === fps);
                const mark = MARKS[row?.fit ?? "no"];
                return (
                  <td key={fps} className={`rounded px-2 py-1 ${mark?.tone ?? ""}`}>
                    {row === undefined ? "—" : mark?.word}
                    {row !== undefined && (
                      <span className="block text-[11.5px]">
                        {rate(row.plain_kbps)} to {rate(row.good_kbps)}
                      </span>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}
