import { queryOptions, useMutation, useQueryClient, type UseMutationResult } from "@tanstack/react-query";

import { ask, call, upload } from "../../api/client";
import { type JobMutation, useJob } from "../../api/useJob";
import type { NewRehearsal, Preflight, Rates, Rehearsal, Relay, RelayChange } from "../../api/types";
import { keepRelay } from "../lines";

export type Span = "hour" | "day" | "month";

/** Query of a relay's rates over a range; live figures continue them between two requests. */
export function ratesQuery(name: string, range: Span) {
  return queryOptions({
    queryKey: ["rates", name, range],
    queryFn: () => ask<Rates>(["relays", name, "rates"], { range }),
    staleTime: 0,
    gcTime: 0,
  });
}

/** Changes a relay as it was at the given revision. */
export function useEditRelay(name: string, revision?: number): UseMutationResult<Relay, Error, RelayChange> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (change) => call<Relay>("PATCH", ["relays", name], change, revision),
    onSuccess: (relay) => keepRelay(client, relay),
  });
}

export function useRemoveRelay(name: string): UseMutationResult<void, Error, void> {
  return useMutation({ mutationFn: () => call<void>("DELETE", ["relays", name]) });
}

export function usePreflight(name: string): JobMutation<Preflight, void> {
  return useJob<Preflight>(["relays", name, "preflight"]);
}

export function useRehearsal(name: string): JobMutation<Rehearsal, NewRehearsal> {
  return useJob<Rehearsal, NewRehearsal>(["relays", name, "rehearse"]);
}

/** Keeps a holding picture, or takes it away when there is none. */
export function useHoldingPicture(relay: Relay): UseMutationResult<void, Error, Blob | null> {
  const client = useQueryClient();
  const path = ["relays", relay.name, "holding-picture"];
  return useMutation({
    mutationFn: (file) => (file === null ? call<void>("DELETE", path) : upload(path, file)),
    onSuccess: (_, file) => keepRelay(client, { ...relay, holding_picture: file !== null }),
  });
}
