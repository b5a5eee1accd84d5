import { ApiError, ask, call, fetchFile } from "./client";
import type { Job, JobProgress } from "./types";

/** Seconds for which the service may hold back the news of a running job. */
const WAIT_S = 1;
/** Time without a connection after which the client stops following a job. The job continues in the service. */
const LOST_TIMEOUT_MS = 120_000;
const RETRY_INTERVAL_MS = 1_000;

/** Follows a job. */
export type JobWatch = {
  /** Called with each progress; `null` while the service does not answer. */
  onProgress?: (progress: JobProgress | null) => void;
  /** Cancels the job when it is aborted. */
  signal?: AbortSignal;
};

/** Runs a job and returns its result, over lost connections. */
export async function runJob<T>(path: readonly string[], body?: unknown, watch: JobWatch = {}): Promise<T> {
  const begun = await call<T | Job>("POST", path, body, undefined, { Prefer: "respond-async" });
  if (!isJob(begun)) {
    return begun;
  }
  const job = await follow(begun, watch);
  return job.result as T;
}

/** Runs a job and returns its file. */
export async function runFileJob(path: readonly string[], watch: JobWatch = {}): Promise<Blob> {
  const begun = await call<Job>("POST", path, {}, undefined, { Prefer: "respond-async" });
  const job = await follow(begun, watch);
  return fetchFile(["jobs", job.id, "file"]);
}

function isJob(value: unknown): value is Job {
  return typeof value === "object" && value !== null && "cancel_requested" in value && "progress" in value;
}

async function follow(begun: Job, { onProgress, signal }: JobWatch): Promise<Job> {
  const cancel = () => void call("DELETE", ["jobs", begun.id]).catch(() => undefined);
  if (signal?.aborted === true) {
    cancel();
  }
  signal?.addEventListener("abort", cancel, { once: true });
  try {
    let lastContact = Date.now();
    for (let job = begun; ;) {
      if (job.state !== "running") {
        return ended(job);
      }
      onProgress?.(job.progress);
      try {
        job = await ask<Job>(["jobs", job.id], { wait_s: WAIT_S });
        lastContact = Date.now();
      } catch (error) {
        if (!isLost(error) || Date.now() - lastContact > LOST_TIMEOUT_MS) {
          throw error;
        }
        onProgress?.(null);
        await new Promise((resolve) => setTimeout(resolve, RETRY_INTERVAL_MS));
      }
    }
  } finally {
    signal?.removeEventListener("abort", cancel);
  }
}

function isLost(error: unknown): boolean {
  return error instanceof ApiError && error.status === 0;
}

function ended(job: Job): Job {
  if (job.problem != null) {
    throw new ApiError(job.problem);
  }
  return job;
}
