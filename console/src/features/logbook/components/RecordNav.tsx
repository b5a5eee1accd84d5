import type { ReactNode } from "react";
import { NavLink } from "react-router";

const WAYS = [
  { to: "/logbook", label: "What happened" },
  { to: "/report", label: "Report of a month" },
] as const;

/** The record: line by line, and summed up. */
export function RecordNav(): ReactNode {
  return (
    <nav aria-label="Record" className="mb-4 flex gap-1 overflow-x-auto border-b border-hair print:hidden">
      {WAYS.map((way) => (
        <NavLink
          key={way.to}
          to={way.to}
          className="border-b-[3px] border-transparent px-2.5 py-2 font-[550] whitespace-nowrap text-quiet aria-[current=page]:border-flow aria-[current=page]:text-ink"
        >
          {way.label}
        </NavLink>
      ))}
    </nav>
  );
}
