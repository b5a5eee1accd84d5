import {
  queryOptions,
  useMutation,
  useQueryClient,
  type QueryClient,
  type UseMutationResult,
} from "@tanstack/react-query";

import { call } from "../../api/client";
import type { Relay } from "../../api/types";

/** All relays by name. Fetched once; live events keep it fresh. */
export function relaysQuery() {
  return queryOptions({ queryKey: ["relays"], queryFn: () => call<Relay[]>("GET", ["relays"]) });
}

/** Puts a relay as it is now in place of what was known of it. */
export function keepRelay(client: QueryClient, relay: Relay): void {
  client.setQueryData(relaysQuery().queryKey, (known) => {
    const others = (known ?? []).filter((each) => each.name !== relay.name);
    return [...others, relay];
  });
}

export function forgetRelay(client: QueryClient, name: string): void {
  client.setQueryData(relaysQuery().queryKey, (known) => known?.filter((each) => each.name !== name));
}

/** What can be asked of a relay; `force` starts it in spite of a failed preflight. */
export type Verb = "start" | "force" | "hold" | "resume" | "stop";

export function useSwitch(name: string): UseMutationResult<Relay, Error, Verb> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (verb) =>
      verb === "start" || verb === "force"
        ? call<Relay>("POST", ["relays", name, "start"], { force: verb === "force" })
        : call<Relay>("POST", ["relays", name, verb]),
    onSuccess: (relay) => keepRelay(client, relay),
  });
}
