import type { ReactNode } from "react";

import { Mark } from "../../ui/Mark";

/** Card of pages before the sign-in. */
export function EntryCard({ title, lead, children }: { title: string; lead: string; children: ReactNode }): ReactNode {
  return (
    <main className="grid min-h-screen place-items-center p-4">
      <div className="w-full max-w-[380px]">
        <div className="mb-6 flex justify-center">
          <Mark />
        </div>
        <div className="grid gap-4 rounded-[10px] border border-hair bg-card p-6">
          <div>
            <h1 className="text-[22px] leading-tight font-[680]">{title}</h1>
            <p className="mt-1 text-quiet">{lead}</p>
          </div>
          {children}
        </div>
      </div>
    </main>
  );
}
