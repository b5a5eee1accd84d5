import { useEffect, type ReactNode } from "react";

type Props = { title: ReactNode; name: string; lead?: ReactNode; actions?: ReactNode; crumbs?: ReactNode };

/** Head of a page: title, lead and actions. */
export function PageHead({ title, name, lead, actions, crumbs }: Props): ReactNode {
  useEffect(() => {
    document.title = `${name} · Yonder Relay`;
  }, [name]);
  return (
    <header className="mb-4">
      {crumbs !== undefined && <p className="mb-2 text-[12.5px] text-quiet">{crumbs}</p>}
      <div className="flex flex-wrap items-start justify-between gap-x-6 gap-y-3 lg:flex-nowrap">
        <div className="min-w-0 lg:flex-1">
          <h1 className="text-[26px] leading-tight font-[680]">{title}</h1>
          {lead !== undefined && <div className="mt-1 max-w-[80ch] text-quiet">{lead}</div>}
        </div>
        {actions !== undefined && <div className="flex flex-wrap gap-2 lg:justify-end print:hidden">{actions}</div>}
      </div>
    </header>
  );
}
