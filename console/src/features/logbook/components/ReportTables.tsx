import type { ReactNode } from "react";

import type { Outage, ReportLine } from "../../../api/types";
import { dayAndTime, duration } from "../../../lib/format";
import { Scroll } from "../../../ui/Scroll";

const SIDES: Record<string, string> = {
  camera: "camera",
  network: "network",
  platform: "platform",
  ours: "ours",
  planned: "planned",
};
const CELL = "border-b border-hair px-2 py-1.5";

function percent(line: ReportLine): string {
  return line.availability_percent == null ? "—" : `${line.availability_percent.toFixed(3)} %`;
}

export function nameOf(line: Pick<ReportLine, "name" | "part">): string {
  return line.part == null ? line.name : `${line.name} → ${line.part}`;
}

/** Availability by name, with fault domains. */
export function LinesTable({ title, lines }: { title: string; lines: readonly ReportLine[] }): ReactNode {
  return (
    <Scroll label={title}>
      <table className="w-full min-w-[820px] table-fixed text-left text-[13px]">
        <caption className="pb-1 text-left text-[15px] font-[650]">{title}</caption>
        <colgroup>
          <col className="w-[30%]" />
          <col span={5} className="w-[10%]" />
          <col className="w-[20%]" />
        </colgroup>
        <thead>
          <tr className="text-quiet">
            <th scope="col" className={CELL}>
              Name
            </th>
            <th scope="col" className={`${CELL} text-right`}>
              Ran
            </th>
            <th scope="col" className={`${CELL} text-right`}>
              On for
            </th>
            <th scope="col" className={`${CELL} text-right`}>
              Down for
            </th>
            <th scope="col" className={`${CELL} text-right`}>
              Outages
            </th>
            <th scope="col" className={`${CELL} text-right`}>
              Longest
            </th>
            <th scope="col" className={CELL}>
              Fault domain
            </th>
          </tr>
        </thead>
        <tbody>
          {lines.map((line) => (
            <tr key={line.kind + nameOf(line)}>
              <th scope="row" className={`${CELL} font-[550]`}>
                {nameOf(line)}
              </th>
              <td className={`${CELL} text-right font-[550] whitespace-nowrap`}>{percent(line)}</td>
              <td className={`${CELL} text-right`}>{duration(line.wanted_s * 1000)}</td>
              <td className={`${CELL} text-right`}>{duration(line.down_s * 1000)}</td>
              <td className={`${CELL} text-right`}>{line.outages}</td>
              <td className={`${CELL} text-right`}>{line.outages === 0 ? "—" : duration(line.longest_s * 1000)}</td>
              <td className={CELL}>
                {line.shares
                  .map((share) => `${SIDES[share.side] ?? share.side} ${duration(share.down_s * 1000)}`)
                  .join(", ")}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

export type CauseSum = { code: string; side: string; outages: number; down_s: number; message: string };

/** Outages summed up by their causes, the longest first. Those of relays are the sums of their parts, and not counted. */
export function byCause(outages: readonly Outage[]): CauseSum[] {
  const sums = new Map<string, CauseSum>();
  for (const outage of outages.filter((each) => each.kind !== "relay")) {
    const sum = sums.get(outage.code) ?? { ...outage, outages: 0, down_s: 0 };
    sums.set(outage.code, { ...sum, outages: sum.outages + 1, down_s: sum.down_s + outage.down_s });
  }
  return [...sums.values()].sort((a, b) => b.down_s - a.down_s);
}

export function CausesTable({ outages }: { outages: readonly Outage[] }): ReactNode {
  const sums = byCause(outages);
  return (
    <Scroll label="Outages by cause">
      <table className="w-full min-w-[560px] text-left text-[13px]">
        <caption className="pb-1 text-left text-[15px] font-[650]">Outages by cause</caption>
        <thead>
          <tr className="text-quiet">
            {["Cause", "Fault domain", "Outages", "Down for", "Meaning"].map((head) => (
              <th key={head} scope="col" className={CELL}>
                {head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sums.map((sum) => (
            <tr key={sum.code}>
              <th scope="row" className={`${CELL} font-[550] whitespace-nowrap`}>
                {sum.code}
              </th>
              <td className={CELL}>{sum.side}</td>
              <td className={CELL}>{sum.outages}</td>
              <td className={`${CELL} whitespace-nowrap`}>{duration(sum.down_s * 1000)}</td>
              <td className={CELL}>{sum.message}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

export function OutagesTable({ outages }: { outages: readonly Outage[] }): ReactNode {
  return (
    <Scroll label="Outages">
      <table className="w-full min-w-[640px] text-left text-[13px]">
        <caption className="pb-1 text-left text-[15px] font-[650]">Outages</caption>
        <thead>
          <tr className="text-quiet">
            {["Begin", "Subject", "Down for", "Fault domain", "Cause"].map((head) => (
              <th key={head} scope="col" className={CELL}>
                {head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {outages
            .filter((outage) => outage.kind !== "relay")
            .map((outage) => (
              <tr key={outage.kind + nameOf(outage) + outage.begin}>
                <td className={`${CELL} whitespace-nowrap`}>{dayAndTime(outage.begin)}</td>
                <th scope="row" className={`${CELL} font-[550]`}>
                  {nameOf(outage)}
                </th>
                <td className={`${CELL} whitespace-nowrap`}>
                  {duration(outage.down_s * 1000)}
                  {outage.end == null && ", ongoing"}
                </td>
                <td className={CELL}>{outage.side}</td>
                <td className={CELL}>
                  {outage.message} <span className="text-quiet">· {outage.code}</span>
                </td>
              </tr>
            ))}
        </tbody>
      </table>
    </Scroll>
  );
}
