import { queryOptions, useMutation, useQueryClient, type UseMutationResult } from "@tanstack/react-query";

import { call, isStale } from "../../api/client";
import type { NewSignpost, Signpost, SignpostChange } from "../../api/types";

const signpostsKey = ["signposts"] as const;
/** Viewers come and go without an event. */
const REFETCH_MS = 5_000;

export function signpostsQuery() {
  return queryOptions({
    queryKey: signpostsKey,
    queryFn: () => call<Signpost[]>("GET", ["signposts"]),
    refetchInterval: REFETCH_MS,
  });
}

function useChange<Input, Output>(change: (input: Input) => Promise<Output>): UseMutationResult<Output, Error, Input> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: () => client.invalidateQueries({ queryKey: signpostsKey }),
    onError: (error) => isStale(error) && void client.invalidateQueries({ queryKey: signpostsKey }),
  });
}

export function useAddSignpost(): UseMutationResult<Signpost, Error, NewSignpost> {
  return useChange((signpost) => call<Signpost>("POST", ["signposts"], signpost));
}

/** Changes a signpost as it was at the given revision. */
export function useEditSignpost(name: string, revision?: number): UseMutationResult<Signpost, Error, SignpostChange> {
  return useChange((change) => call<Signpost>("PATCH", ["signposts", name], change, revision));
}

/** Pauses a signpost, or resumes it. */
export function usePauseSignpost(name: string): UseMutationResult<Signpost, Error, boolean> {
  return useChange((pause) => call<Signpost>("POST", ["signposts", name, pause ? "pause" : "resume"]));
}

export function useRemoveSignpost(): UseMutationResult<void, Error, string> {
  return useChange((name) => call<void>("DELETE", ["signposts", name]));
}
