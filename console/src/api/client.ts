import type { Problem } from "./types";

/** Error of a request; status 0 without a response. */
export class ApiError extends Error {
  readonly status: number;
  readonly code: string;
  readonly hint: string | null;
  /** Invalid field of the request, if known. */
  readonly field: string | null;
  /** Checks of a failed preflight. */
  readonly checks: NonNullable<Problem["checks"]>;

  constructor(problem: Pick<Problem, "status" | "detail" | "code"> & Partial<Problem>) {
    super(problem.detail);
    this.status = problem.status;
    this.code = problem.code;
    this.hint = problem.hint ?? null;
    this.field = problem.field ?? null;
    this.checks = problem.checks ?? [];
  }
}

/** CSRF token of the session, in memory only. */
let sessionToken = "";

export function setSessionToken(token: string): void {
  sessionToken = token;
}

type Method = "GET" | "POST" | "PATCH" | "PUT" | "DELETE";
export type Query = Readonly<Record<string, string | number | boolean | null | undefined>>;

/** Returns an address of the API with encoded path segments. */
export function address(path: readonly string[], query: Query = {}): string {
  const given = Object.entries(query).filter(([, value]) => value !== undefined && value !== null && value !== "");
  const text = new URLSearchParams(given.map(([name, value]) => [name, String(value)])).toString();
  return `/api/v1/${path.map(encodeURIComponent).join("/")}${text === "" ? "" : `?${text}`}`;
}

/** Timeout of requests. Longer work runs as a job; file transfers have no timeout. */
const TIMEOUT_MS = 20_000;
const FILE_TIMEOUT_MS = 15 * 60_000;

function timeoutOf(url: string): number {
  return /\/(file|holding-picture)$/.test(url) ? FILE_TIMEOUT_MS : TIMEOUT_MS;
}

async function send(method: Method, url: string, headers: Record<string, string>, body?: BodyInit): Promise<Response> {
  const allHeaders = method === "GET" ? headers : { ...headers, "X-Yonder-Token": sessionToken };
  const signal = AbortSignal.timeout(timeoutOf(url));
  const request: RequestInit = { method, headers: allHeaders, credentials: "same-origin", signal };
  if (body !== undefined) {
    request.body = body;
  }
  const response = await fetch(url, request).catch((error: unknown) => {
    const detail =
      error instanceof DOMException && error.name === "TimeoutError"
        ? "The request timed out. The service may still carry it out."
        : "The service does not answer.";
    throw new ApiError({ status: 0, code: "service.not-reachable", detail });
  });
  if (!response.ok) {
    throw new ApiError(await readProblem(response));
  }
  return response;
}

/** Calls the API. With a revision, a change is refused once the record has another one. */
export async function call<T>(
  method: Method,
  path: readonly string[],
  body?: unknown,
  revision?: number,
  more: Record<string, string> = {},
): Promise<T> {
  const carries = method !== "GET" && method !== "DELETE";
  const headers: Record<string, string> = { Accept: "application/json", ...more };
  if (revision !== undefined) {
    headers["If-Match"] = `"${revision}"`;
  }
  if (method !== "GET") {
    headers["Content-Type"] = "application/json";
  }
  const response = await send(method, address(path), headers, carries ? JSON.stringify(body ?? {}) : undefined);
  return (response.status === 204 ? undefined : await response.json()) as T;
}

/** Sends a GET request. */
export async function ask<T>(path: readonly string[], query: Query): Promise<T> {
  const response = await send("GET", address(path, query), { Accept: "application/json" });
  return (await response.json()) as T;
}

/** Sends a file. */
export async function upload(path: readonly string[], file: Blob): Promise<void> {
  await send("PUT", address(path), { "Content-Type": "application/octet-stream" }, file);
}

/** Fetches a file. */
export async function fetchFile(path: readonly string[]): Promise<Blob> {
  const response = await send("GET", address(path), {});
  return response.blob();
}

/** The session is missing or has ended. */
export function isSignedOut(error: unknown): boolean {
  return error instanceof ApiError && error.status === 401;
}

/** The record has been changed by another person meanwhile. */
export function isStale(error: unknown): boolean {
  return error instanceof ApiError && error.status === 412;
}

async function readProblem(response: Response): Promise<Problem> {
  try {
    return (await response.json()) as Problem;
  } catch {
    const detail = `The service answered ${response.status} without a reason.`;
    return { type: "about:blank", title: "", status: response.status, code: "service.unclear", detail };
  }
}
