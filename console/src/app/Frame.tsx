import type { ReactNode } from "react";

import { PersonMenu } from "../features/session";
import { Mark } from "../ui/Mark";

/** The frame of every page: mark, pages, and who is signed in. */
export function Frame({ person, children }: { person: string; children: ReactNode }): ReactNode {
  return (
    <div className="mx-auto max-w-[1600px]">
      <header className="flex h-[60px] items-center gap-7 border-b border-hair px-4 sm:px-8">
        <Mark />
        <nav aria-label="Pages" className="flex flex-1 gap-6">
          <a
            href="/"
            aria-current="page"
            className="border-b-[3px] border-flow pt-[21px] pb-[17px] font-[550] text-ink"
          >
            Lines
          </a>
        </nav>
        <PersonMenu person={person} />
      </header>
      <main className="px-4 py-5 sm:px-8">{children}</main>
    </div>
  );
}
