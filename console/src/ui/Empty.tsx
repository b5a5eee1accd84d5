import type { ReactNode } from "react";

/** Placeholder of an empty list, with the next step. */
export function Empty({
  title,
  children,
  action,
}: {
  title: string;
  children: ReactNode;
  action?: ReactNode;
}): ReactNode {
  return (
    <section className="rounded-[10px] border border-dashed border-edge px-5 py-8 text-center">
      <h2 className="text-base font-[650]">{title}</h2>
      <p className="mx-auto mt-1 max-w-[60ch] text-quiet">{children}</p>
      {action !== undefined && <div className="mt-4 flex justify-center gap-2">{action}</div>}
    </section>
  );
}
