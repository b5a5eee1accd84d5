import { afterEach, expect, test, vi } from "vitest";

import { ApiError } from "./client";
import { runFileJob, runJob } from "./jobs";
import type { Job, JobProgress } from "./types";

afterEach(() => {
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

function job(state: Job["state"], more: Partial<Job> = {}): Job {
  const progress = { step: "measuring", done: 1, total: 4 };
  return {
    id: "7f",
    kind: "preflight",
    state,
    cancel_requested: false,
    who: "desk",
    began: "2026-11-29T08:00:00Z",
    progress,
    ...more,
  };
}

/** Answers each request with the next of these; an error is a connection that is lost. */
function answering(answers: readonly unknown[]): { method: string; url: string; prefer: string | null }[] {
  const asked: { method: string; url: string; prefer: string | null }[] = [];
  const rest = [...answers];
  vi.stubGlobal("fetch", async (url: string, request: RequestInit) => {
    asked.push({ method: request.method ?? "GET", url, prefer: new Headers(request.headers).get("Prefer") });
    const answer = rest.shift();
    if (answer instanceof Error) {
      throw answer;
    }
    return answer instanceof Response ? answer : new Response(JSON.stringify(answer));
  });
  return asked;
}

test("a job is followed to its result, and its progress is shown", async () => {
  const asked = answering([
    job("running"),
    job("running", { progress: { step: "starting", done: 2, total: 4 } }),
    job("done", { result: { level: "pass" } }),
  ]);
  const steps: (JobProgress | null)[] = [];
  const result = await runJob<{ level: string }>(
    ["relays", "Line", "preflight"],
    {},
    { onProgress: (each) => steps.push(each) },
  );
  expect(result).toEqual({ level: "pass" });
  expect(asked.map(({ method, url }) => `${method} ${url}`)).toEqual([
    "POST /api/v1/relays/Line/preflight",
    "GET /api/v1/jobs/7f?wait_s=1",
    "GET /api/v1/jobs/7f?wait_s=1",
  ]);
  expect(asked[0]?.prefer).toBe("respond-async");
  expect(steps.map((each) => each?.step)).toEqual(["measuring", "starting"]);
});

test("work that is done at once needs no job", async () => {
  answering([{ name: "Line", wanted: "on" }]);
  expect(await runJob(["relays", "Line", "start"], { force: true })).toEqual({ name: "Line", wanted: "on" });
});

test("a lost connection does not end a job", async () => {
  vi.useFakeTimers({ shouldAdvanceTime: true, advanceTimeDelta: 200 });
  answering([job("running"), new TypeError("failed to fetch"), job("done", { result: 3 })]);
  const steps: (JobProgress | null)[] = [];
  expect(await runJob(["discoveries"], {}, { onProgress: (each) => steps.push(each) })).toBe(3);
  expect(steps).toContain(null);
});

test("a job that fails has the problem of its request", async () => {
  const problem = {
    type: "about:blank",
    title: "",
    status: 409,
    code: "relay.preflight-failed",
    detail: "It failed.",
    checks: [],
  };
  answering([job("running"), job("failed", { problem })]);
  const failed = runJob(["relays", "Line", "start"], {});
  await expect(failed).rejects.toBeInstanceOf(ApiError);
  await expect(failed).rejects.toMatchObject({ code: "relay.preflight-failed", status: 409 });
});

test("aborting cancels the job", async () => {
  const canceled = { type: "about:blank", title: "", status: 409, code: "job.canceled", detail: "Canceled." };
  const controller = new AbortController();
  const asked = answering([
    job("running"),
    new Response(null, { status: 204 }),
    job("canceled", { problem: canceled }),
  ]);
  const running = runJob(
    ["relays", "Line", "rehearse"],
    {},
    { signal: controller.signal, onProgress: () => controller.abort() },
  );
  await expect(running).rejects.toMatchObject({ code: "job.canceled" });
  expect(asked.some(({ method, url }) => method === "DELETE" && url === "/api/v1/jobs/7f")).toBe(true);
});

test("the file of a job is fetched once it is made", async () => {
  const asked = answering([
    job("running", { kind: "backup" }),
    job("done", { kind: "backup" }),
    new Response("SQLite format 3"),
  ]);
  const file = await runFileJob(["backup"]);
  expect(await file.text()).toBe("SQLite format 3");
  expect(asked.at(-1)).toMatchObject({ method: "GET", url: "/api/v1/jobs/7f/file" });
});
