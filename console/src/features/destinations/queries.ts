import { queryOptions, useMutation, useQueryClient, type UseMutationResult } from "@tanstack/react-query";

import { call, isStale } from "../../api/client";
import type { Destination, DestinationChange, NewDestination, Rekey, RevealedKey, Stored } from "../../api/types";

export const destinationsKey = ["destinations"] as const;

export function destinationsQuery() {
  return queryOptions({ queryKey: destinationsKey, queryFn: () => call<Destination[]>("GET", ["destinations"]) });
}

/** Mutations of destinations; subscribers of the live events see each. */
function useChange<Input, Output>(change: (input: Input) => Promise<Output>): UseMutationResult<Output, Error, Input> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: change,
    // The variables hold secrets: they are not kept after the request.
    gcTime: 0,
    onSuccess: () => client.invalidateQueries({ queryKey: destinationsKey }),
    onError: (error) => isStale(error) && void client.invalidateQueries({ queryKey: destinationsKey }),
  });
}

export function useAddDestination(): UseMutationResult<Stored, Error, NewDestination> {
  return useChange((destination) => call<Stored>("POST", ["destinations"], destination));
}

/** Changes a destination as it was at the given revision. */
export function useEditDestination(
  name: string,
  revision?: number,
): UseMutationResult<Stored, Error, DestinationChange> {
  return useChange((change) => call<Stored>("PATCH", ["destinations", name], change, revision));
}

export function useRekey(name: string): UseMutationResult<Stored, Error, Rekey> {
  return useChange((rekey) => call<Stored>("POST", ["destinations", name, "rekey"], rekey));
}

export function useReveal(name: string): UseMutationResult<RevealedKey, Error, void> {
  return useMutation({
    mutationFn: () => call<RevealedKey>("POST", ["destinations", name, "reveal"]),
    gcTime: 0,
  });
}

export function useRemoveDestination(): UseMutationResult<void, Error, string> {
  return useChange((name) => call<void>("DELETE", ["destinations", name]));
}
