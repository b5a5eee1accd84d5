import { useMutation, type UseMutationResult } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import { runJob } from "./jobs";
import type { JobProgress } from "./types";

/** A job that `mutate` starts. It is canceled when the component unmounts. */
export type JobMutation<T, V> = UseMutationResult<T, Error, V> & { progress: JobProgress | null };

export function useJob<T, V = void>(path: readonly string[]): JobMutation<T, V> {
  const [progress, setProgress] = useState<JobProgress | null>(null);
  const aborts = useRef<AbortController>(new AbortController());
  useEffect(() => {
    const controller = new AbortController();
    aborts.current = controller;
    return () => controller.abort();
  }, []);
  const mutation = useMutation<T, Error, V>({
    mutationFn: (body) => runJob<T>(path, body ?? {}, { onProgress: setProgress, signal: aborts.current.signal }),
    onSettled: () => setProgress(null),
    gcTime: 0,
  });
  return { ...mutation, progress };
}
