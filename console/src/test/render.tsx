import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, type RenderResult } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, vi } from "vitest";

import { MemoryRouter } from "react-router";

import type { Role } from "../api/types";
import { sessionQuery } from "../features/session";
import { ToastProvider } from "../ui/Toast";
import { TooltipProvider } from "../ui/Tooltip";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

type Where = { at?: string; role?: Role };

/** Draws something within what the application always has around it: an admin looks, unless said otherwise. */
export function draw(
  what: ReactNode,
  { at = "/", role = "admin" }: Where = {},
): RenderResult & { client: QueryClient } {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: Infinity } } });
  client.setQueryData(sessionQuery().queryKey, { person: "night desk", role, token: "t" });
  const result = render(
    <QueryClientProvider client={client}>
      <TooltipProvider>
        <ToastProvider>
          <MemoryRouter initialEntries={[at]}>{what}</MemoryRouter>
        </ToastProvider>
      </TooltipProvider>
    </QueryClientProvider>,
  );
  return { ...result, client };
}

export type Call = { method: string; path: string; body: unknown; token: string | null };

/** API that answers calls as configured, and records them. */
export function fakeApi(answer: (call: Call) => { status: number; body: unknown }): Call[] {
  const calls: Call[] = [];
  vi.stubGlobal("fetch", async (path: string, request: RequestInit) => {
    const headers = new Headers(request.headers);
    const body: unknown = typeof request.body === "string" ? JSON.parse(request.body) : null;
    const call = { method: request.method ?? "GET", path, body, token: headers.get("X-Yonder-Token") };
    calls.push(call);
    const { status, body: said } = answer(call);
    return new Response(status === 204 ? null : JSON.stringify(said), { status });
  });
  return calls;
}
