import {
  queryOptions,
  useMutation,
  useQueryClient,
  type QueryClient,
  type UseMutationResult,
} from "@tanstack/react-query";

import { call } from "../../api/client";
import { runJob } from "../../api/jobs";
import type { Day, Relay } from "../../api/types";

/** All relays. Fetched once; live events keep it fresh. */
export function relaysQuery() {
  return queryOptions({
    queryKey: ["relays"],
    queryFn: () => call<Relay[]>("GET", ["relays"]),
    // Events replace what changed and nothing else: there is nothing to be found by comparing hundreds of relays.
    structuralSharing: false,
  });
}

export const dayKey = ["day"] as const;

/** Last 24 hours of every relay, in bands. */
export function dayQuery() {
  return queryOptions({ queryKey: dayKey, queryFn: () => call<Day>("GET", ["day"]) });
}

/** Puts a relay as it is now in place of what was known of it. */
export function keepRelay(client: QueryClient, relay: Relay): void {
  client.setQueryData(relaysQuery().queryKey, (known) => {
    const others = (known ?? []).filter((each) => each.name !== relay.name);
    return [...others, relay];
  });
}

/** Mutations of a relay; `force` starts it in spite of a failed preflight. */
export type Verb = "start" | "force" | "hold" | "resume" | "stop";

export function useSwitch(name: string): UseMutationResult<Relay, Error, Verb> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (verb) =>
      verb === "start" || verb === "force"
        ? runJob<Relay>(["relays", name, "start"], { force: verb === "force" })
        : call<Relay>("POST", ["relays", name, verb]),
    onSuccess: (relay) => keepRelay(client, relay),
  });
}
