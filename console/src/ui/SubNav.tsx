import type { ReactNode } from "react";
import { NavLink } from "react-router";

type Props = { label: string; ways: readonly { to: string; label: string }[] };

/** Navigation between related pages. */
export function SubNav({ label, ways }: Props): ReactNode {
  return (
    <nav aria-label={label} className="mb-4 flex gap-1 overflow-x-auto border-b border-hair print:hidden">
      {ways.map((way) => (
        <NavLink
          key={way.to}
          to={way.to}
          end
          className="-outline-offset-2 border-b-[3px] border-transparent px-2.5 py-2 font-[550] whitespace-nowrap text-quiet aria-[current=page]:border-flow aria-[current=page]:text-ink"
        >
          {way.label}
        </NavLink>
      ))}
    </nav>
  );
}
