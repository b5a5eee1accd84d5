import { afterEach, expect, test, vi } from "vitest";

import { ApiError, address, ask, call, isStale, setSessionToken, upload } from "./client";

afterEach(() => void vi.unstubAllGlobals());

/** Requests of the page. */
function answering(response: () => Response): { url: string; request: RequestInit }[] {
  const asked: { url: string; request: RequestInit }[] = [];
  vi.stubGlobal("fetch", async (url: string, request: RequestInit) => {
    asked.push({ url, request });
    return response();
  });
  return asked;
}

async function failure(what: Promise<unknown>): Promise<ApiError> {
  return what.then(
    () => Promise.reject(new Error("it did not fail")),
    (error: unknown) => (error instanceof ApiError ? error : Promise.reject(error as Error)),
  );
}

test("names with blanks and slashes stay one part of an address", () => {
  expect(address(["relays", "Summit / east?", "start"])).toBe("/api/v1/relays/Summit%20%2F%20east%3F/start");
});

test("a query says what is given, and nothing of what is not", () => {
  const query = { about: "Fell & Yard", limit: 50, changes: false, from: undefined, kind: null, side: "" };
  expect(address(["logbook"], query)).toBe("/api/v1/logbook?about=Fell+%26+Yard&limit=50&changes=false");
});

test("changes carry the session's token, and questions do not", async () => {
  setSessionToken("session-token");
  const asked = answering(() => new Response("{}"));
  await ask(["status"], {});
  await call("POST", ["relays", "Line", "stop"]);
  await call("DELETE", ["relays", "Line"]);
  await upload(["relays", "Line", "holding-picture"], new Blob(["p"]));
  const tokens = asked.map(({ request }) => new Headers(request.headers).get("X-Yonder-Token"));
  expect(tokens).toEqual([null, "session-token", "session-token", "session-token"]);
  // A change without anything to say still says an object; a removal says nothing.
  expect(asked.slice(1, 3).map(({ request }) => request.body)).toEqual(["{}", undefined]);
});

test("an answer without a body is nothing", async () => {
  answering(() => new Response(null, { status: 204 }));
  expect(await call("POST", ["relays", "Line", "stop"])).toBeUndefined();
});

test("a refusal keeps what was wrong, where, and what to do", async () => {
  const problem = {
    type: "about:blank",
    title: "",
    status: 422,
    code: "request.invalid",
    detail: "No.",
    hint: "Do.",
    field: "rate",
  };
  answering(() => new Response(JSON.stringify(problem), { status: 422 }));
  const error = await failure(call("POST", ["uplinks"], {}));
  expect([error.status, error.code, error.message, error.hint, error.field, error.checks]).toEqual([
    422,
    "request.invalid",
    "No.",
    "Do.",
    "rate",
    [],
  ]);
});

test("a refusal without a problem document is reported with its status", async () => {
  answering(() => new Response("<h1>Bad gateway</h1>", { status: 502 }));
  const error = await failure(ask(["status"], {}));
  expect([error.status, error.code]).toEqual([502, "service.unclear"]);
  expect(error.message).toContain("502");
});

test("a service that does not answer is distinguished from one that refuses", async () => {
  vi.stubGlobal("fetch", () => Promise.reject(new TypeError("failed to fetch")));
  const error = await failure(ask(["status"], {}));
  expect([error.status, error.code]).toEqual([0, "service.not-reachable"]);
});

test("a change carries the revision that it was made against, and a stale one is recognized", async () => {
  const problem = { type: "about:blank", title: "", status: 412, code: "request.stale", detail: "Changed meanwhile." };
  const asked = answering(() => new Response(JSON.stringify(problem), { status: 412 }));
  const error = await failure(call("PATCH", ["feeds", "Summit"], { site: "Fell" }, 7));
  expect(new Headers(asked[0]?.request.headers).get("If-Match")).toBe('"7"');
  expect(isStale(error)).toBe(true);
  expect(isStale(new Error("another"))).toBe(false);
});
