import type { ReactNode } from "react";

type Props = { title?: ReactNode; aside?: ReactNode; label?: string; className?: string; children: ReactNode };

/** Card. */
export function Card({ title, aside, label, className = "", children }: Props): ReactNode {
  return (
    <section
      aria-label={label}
      className={`min-w-0 rounded-[10px] border border-hair bg-card px-4 py-3.5 ${className}`}
    >
      {title !== undefined && (
        <div className="mb-2.5 flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1">
          <h2 className="text-[15px] font-[650]">{title}</h2>
          {aside !== undefined && <div className="text-[12.5px] text-quiet">{aside}</div>}
        </div>
      )}
      {children}
    </section>
  );
}
