import { useEffect, useRef, type ReactNode } from "react";
import { Link, useLocation } from "react-router";

import type { SignedIn } from "../api/types";
import { May, PersonMenu } from "../features/session";
import { ButtonLink } from "../ui/Link";
import { Mark } from "../ui/Mark";
import { AwayBanner } from "./AwayBanner";

const PAGES = [
  { to: "/", label: "Lines", also: ["/relays"] },
  { to: "/feeds", label: "Feeds", also: ["/find", "/patterns"] },
  { to: "/destinations", label: "Destinations", also: [] },
  { to: "/signposts", label: "Signposts", also: [] },
  { to: "/platforms", label: "Platforms", also: [] },
  { to: "/budget", label: "Budget", also: [] },
  { to: "/logbook", label: "Logbook", also: ["/report", "/audit"] },
  { to: "/settings", label: "Settings", also: [] },
] as const;

/** Returns true for these addresses and those below them. */
function isWithin(pathname: string, roots: readonly string[]): boolean {
  return roots.some((root) => pathname === root || (root !== "/" && pathname.startsWith(`${root}/`)));
}

function Navigation(): ReactNode {
  const { pathname } = useLocation();
  const bar = useRef<HTMLElement>(null);
  // On phones the current page is scrolled into view.
  useEffect(() => {
    bar.current?.querySelector("[aria-current]")?.scrollIntoView({ inline: "center", block: "nearest" });
  }, [pathname]);
  return (
    <nav
      ref={bar}
      aria-label="Pages"
      className="order-last -mx-4 flex w-[calc(100%+32px)] gap-5 overflow-x-auto px-4 [scrollbar-width:none] sm:-mx-8 sm:w-[calc(100%+64px)] sm:px-8 lg:order-none lg:m-0 lg:w-auto lg:flex-1 lg:gap-[22px] lg:px-0"
    >
      {PAGES.map(({ to, label, also }) => (
        <Link
          key={to}
          to={to}
          aria-current={isWithin(pathname, [to, ...also]) ? "page" : undefined}
          className="border-b-[3px] border-transparent pt-1.5 pb-2 font-[550] whitespace-nowrap text-quiet hover:text-ink aria-[current=page]:border-flow aria-[current=page]:text-ink lg:pt-[21px] lg:pb-[17px]"
        >
          {label}
        </Link>
      ))}
    </nav>
  );
}

/** Frame of every page: logo, navigation, main action and account menu. */
export function Frame({ session, children }: { session: SignedIn; children: ReactNode }): ReactNode {
  return (
    <div className="mx-auto max-w-[1600px]">
      <a href="#content" className="sr-only focus:not-sr-only focus:absolute focus:z-20 focus:bg-card focus:p-3">
        Skip to the content
      </a>
      <header className="flex flex-wrap items-center gap-x-7 border-b border-hair px-4 pt-3 sm:px-8 lg:h-[60px] lg:flex-nowrap lg:pt-0 print:hidden">
        <Mark />
        <Navigation />
        <div className="ml-auto flex items-center gap-2 pb-2 lg:pb-0">
          <May role="admin">
            <ButtonLink strong to="/new">
              New relay
            </ButtonLink>
          </May>
          <PersonMenu person={session.person} role={session.role} />
        </div>
      </header>
      <main id="content" tabIndex={-1} className="px-4 py-5 outline-none sm:px-8">
        <AwayBanner />
        {children}
      </main>
    </div>
  );
}
