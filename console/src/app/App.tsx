import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import { ApiError } from "../api/client";
import { LinesPage } from "../features/lines";
import { SetUpPage, SignInPage, sessionQuery } from "../features/session";
import { TooltipProvider } from "../ui/Tooltip";
import { Frame } from "./Frame";

/** Live events keep what is shown fresh; nothing is fetched anew by itself. */
function makeQueryClient(): QueryClient {
  return new QueryClient({
    defaultOptions: { queries: { staleTime: Infinity, retry: false, refetchOnWindowFocus: false } },
  });
}

export function App(): ReactNode {
  const [queryClient] = useState(makeQueryClient);
  return (
    <QueryClientProvider client={queryClient}>
      <TooltipProvider>
        <Pages />
      </TooltipProvider>
    </QueryClientProvider>
  );
}

/** Which page an address means, once it is known who looks at it. */
function Pages(): ReactNode {
  const session = useQuery(sessionQuery());
  if (session.isPending) {
    return null;
  }
  if (session.data) {
    return (
      <Frame person={session.data.person}>
        <LinesPage />
      </Frame>
    );
  }
  if (window.location.pathname === "/setup") {
    return <SetUpPage />;
  }
  const away = !(session.error instanceof ApiError && session.error.status === 401);
  return <SignInPage serviceAway={away} />;
}
