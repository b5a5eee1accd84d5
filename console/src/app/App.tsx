import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { BrowserRouter, Route, Routes } from "react-router";

import { ApiError } from "../api/client";
import { JoinPage, SetUpPage, SignInPage, sessionQuery } from "../features/session";
import { ToastProvider } from "../ui/Toast";
import { TooltipProvider } from "../ui/Tooltip";
import { Pages } from "./Pages";

/** Live events keep queries fresh, so that none is refetched automatically. */
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
        <ToastProvider>
          <BrowserRouter>
            <Routes>
              <Route path="/join" element={<JoinPage />} />
              <Route path="*" element={<Entrance />} />
            </Routes>
          </BrowserRouter>
        </ToastProvider>
      </TooltipProvider>
    </QueryClientProvider>
  );
}

/** Routes of a signed-in person. */
function Entrance(): ReactNode {
  const session = useQuery(sessionQuery());
  if (session.isPending) {
    return null;
  }
  if (session.data) {
    return <Pages session={session.data} />;
  }
  if (window.location.pathname === "/setup") {
    return <SetUpPage />;
  }
  const away = !(session.error instanceof ApiError && session.error.status === 401);
  return <SignInPage serviceAway={away} />;
}
