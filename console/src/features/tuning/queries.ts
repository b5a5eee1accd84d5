import { queryOptions, useQueryClient } from "@tanstack/react-query";

import { call } from "../../api/client";
import type { Schemas, Tuning, TuningResult } from "../../api/types";
import { type JobMutation, useJob } from "../../api/useJob";

export const tuningKey = ["tuning"] as const;

/** Encoder settings of a feed's camera. Each request is a dialog with the camera. */
export function tuningQuery(feed: string) {
  return queryOptions({
    queryKey: [...tuningKey, feed],
    queryFn: () => call<Tuning>("GET", ["feeds", feed, "tuning"]),
    staleTime: 0,
    gcTime: 0,
    retry: false,
  });
}

export type NewTuning = Partial<Schemas["NewTuning"]>;

/** Changes the settings, or applies the proposal without any. Takes up to a minute. */
export function useTune(feed: string, onTuned?: () => void): JobMutation<TuningResult, NewTuning> {
  const client = useQueryClient();
  const job = useJob<TuningResult, NewTuning>(["feeds", feed, "tuning"]);
  const mutate: typeof job.mutate = (change, options) =>
    job.mutate(change, {
      ...options,
      onSuccess: (...done) => {
        void client.invalidateQueries({ queryKey: [...tuningKey, feed] });
        options?.onSuccess?.(...done);
        onTuned?.();
      },
    });
  return { ...job, mutate };
}
