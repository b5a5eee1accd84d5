import type { ReactNode } from "react";
import { NavLink } from "react-router";

const WAYS = [
  { to: "/feeds", label: "Kept" },
  { to: "/find", label: "Find cameras" },
  { to: "/patterns", label: "Address patterns" },
] as const;

/** The ways to a camera: those that are kept, those that can be found, and what addresses look like. */
export function FeedNav(): ReactNode {
  return (
    <nav aria-label="Feeds" className="mb-4 flex gap-1 overflow-x-auto border-b border-hair">
      {WAYS.map((way) => (
        <NavLink
          key={way.to}
          to={way.to}
          end
          className="border-b-[3px] border-transparent px-2.5 py-2 font-[550] whitespace-nowrap text-quiet aria-[current=page]:border-flow aria-[current=page]:text-ink"
        >
          {way.label}
        </NavLink>
      ))}
    </nav>
  );
}
