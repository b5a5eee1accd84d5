import { Suspense, lazy, type ReactNode } from "react";
import { Route, Routes } from "react-router";

import type { SignedIn } from "../api/types";
import { LinesPage } from "../features/lines";
import { ErrorBoundary } from "./ErrorBoundary";
import { Frame } from "./Frame";
import { NoSuchPage } from "./NoSuchPage";
import { LiveProvider } from "./live/LiveProvider";

// Other pages are loaded on demand.
const RelayPage = lazy(async () => ({ default: (await import("../features/relay")).RelayPage }));
const NewRelayPage = lazy(async () => ({ default: (await import("../features/new-relay")).NewRelayPage }));
const FeedsPage = lazy(async () => ({ default: (await import("../features/feeds/pages")).FeedsPage }));
const FeedPage = lazy(async () => ({ default: (await import("../features/feeds/pages")).FeedPage }));
const FindPage = lazy(async () => ({ default: (await import("../features/feeds/pages")).FindPage }));
const PatternsPage = lazy(async () => ({ default: (await import("../features/feeds/pages")).PatternsPage }));
const DestinationsPage = lazy(async () => ({
  default: (await import("../features/destinations/DestinationsPage")).DestinationsPage,
}));
const PlatformsPage = lazy(async () => ({
  default: (await import("../features/platforms/PlatformsPage")).PlatformsPage,
}));
const SignpostsPage = lazy(async () => ({
  default: (await import("../features/signposts/SignpostsPage")).SignpostsPage,
}));
const BudgetPage = lazy(async () => ({ default: (await import("../features/budget/BudgetPage")).BudgetPage }));
const LogbookPage = lazy(async () => ({ default: (await import("../features/logbook/LogbookPage")).LogbookPage }));
const AuditPage = lazy(async () => ({ default: (await import("../features/logbook/AuditPage")).AuditPage }));
const ReportPage = lazy(async () => ({ default: (await import("../features/logbook/ReportPage")).ReportPage }));
const SettingsPage = lazy(async () => ({
  default: (await import("../features/settings/SettingsPage")).SettingsPage,
}));

/** Pages of a signed-in person. */
export function Pages({ session }: { session: SignedIn }): ReactNode {
  return (
    <LiveProvider>
      <Frame session={session}>
        <ErrorBoundary>
          <Suspense fallback={<p className="text-quiet">Loading …</p>}>
            <Routes>
              <Route path="/" element={<LinesPage />} />
              <Route path="/relays/:name" element={<RelayPage />} />
              <Route path="/new" element={<NewRelayPage />} />
              <Route path="/feeds" element={<FeedsPage />} />
              <Route path="/feeds/:name" element={<FeedPage />} />
              <Route path="/find" element={<FindPage />} />
              <Route path="/patterns" element={<PatternsPage />} />
              <Route path="/destinations" element={<DestinationsPage />} />
              <Route path="/platforms" element={<PlatformsPage />} />
              <Route path="/signposts" element={<SignpostsPage />} />
              <Route path="/budget" element={<BudgetPage />} />
              <Route path="/logbook" element={<LogbookPage />} />
              <Route path="/report" element={<ReportPage />} />
              <Route path="/audit" element={<AuditPage />} />
              <Route path="/settings/:section?" element={<SettingsPage />} />
              <Route path="*" element={<NoSuchPage />} />
            </Routes>
          </Suspense>
        </ErrorBoundary>
      </Frame>
    </LiveProvider>
  );
}
