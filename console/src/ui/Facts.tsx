import type { ReactNode } from "react";

type Props = { rows: readonly (readonly [string, ReactNode])[]; strong?: boolean };

/** List of names and values. */
export function Facts({ rows, strong = false }: Props): ReactNode {
  return (
    <dl className="grid grid-cols-[96px_minmax(0,1fr)] gap-x-3 gap-y-0.5 text-[13px]">
      {rows.map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="text-quiet">{name}</dt>
          <dd className={strong ? "font-[550]" : "break-words"}>{value}</dd>
        </div>
      ))}
    </dl>
  );
}
