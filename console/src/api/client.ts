import type { Problem } from "./types";

/** Where the service says no, or does not answer (status 0). */
export class ApiError extends Error {
  readonly status: number;
  readonly code: string;
  readonly hint: string | null;

  constructor(problem: Pick<Problem, "status" | "detail" | "code"> & { hint?: string | null }) {
    super(problem.detail);
    this.status = problem.status;
    this.code = problem.code;
    this.hint = problem.hint ?? null;
  }
}

/** The token that changes must carry. It lives as long as the page, never in browser storage. */
let sessionToken = "";

export function setSessionToken(token: string): void {
  sessionToken = token;
}

type Method = "GET" | "POST" | "PATCH" | "DELETE";

/** Calls the API. Parts of the path may hold blanks and slashes: each is encoded. */
export async function call<T>(method: Method, path: readonly string[], body?: unknown): Promise<T> {
  const headers: Record<string, string> = { Accept: "application/json" };
  if (method !== "GET") {
    headers["X-Yonder-Token"] = sessionToken;
    headers["Content-Type"] = "application/json";
  }
  const request: RequestInit = { method, headers, credentials: "same-origin" };
  if (method !== "GET" && method !== "DELETE") {
    request.body = JSON.stringify(body ?? {});
  }
  const response = await fetch(`/api/v1/${path.map(encodeURIComponent).join("/")}`, request).catch(() => {
    throw new ApiError({ status: 0, code: "service.not-reachable", detail: "The service does not answer." });
  });
  if (!response.ok) {
    throw new ApiError(await readProblem(response));
  }
  return (response.status === 204 ? undefined : await response.json()) as T;
}

async function readProblem(response: Response): Promise<Problem> {
  try {
    return (await response.json()) as Problem;
  } catch {
    const detail = `The service answered ${response.status} without a reason.`;
    return { type: "about:blank", title: "", status: response.status, code: "service.unclear", detail };
  }
}
