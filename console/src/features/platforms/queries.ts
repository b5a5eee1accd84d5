import { queryOptions, useMutation, useQueryClient, type UseMutationResult } from "@tanstack/react-query";

import { call } from "../../api/client";
import type { NewPlatform, Platform, RuleKind } from "../../api/types";

export const platformsKey = ["platforms"] as const;

export function platformsQuery() {
  return queryOptions({ queryKey: platformsKey, queryFn: () => call<Platform[]>("GET", ["platforms"]) });
}

/** Every rule that a sheet can have; it changes with the program alone. */
export function rulesQuery() {
  return queryOptions({ queryKey: ["platform-rules"], queryFn: () => call<RuleKind[]>("GET", ["platform-rules"]) });
}

function useChange<Input, Output>(change: (input: Input) => Promise<Output>): UseMutationResult<Output, Error, Input> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: () => client.invalidateQueries({ queryKey: platformsKey }),
  });
}

export function useAddPlatform(): UseMutationResult<Platform, Error, NewPlatform> {
  return useChange((platform) => call<Platform>("POST", ["platforms"], platform));
}

/** Changes rules of a platform as it was at the given revision. */
export function useEditPlatform(
  name: string,
  revision?: number,
): UseMutationResult<Platform, Error, Record<string, string>> {
  return useChange((rules) => call<Platform>("PATCH", ["platforms", name], { rules }, revision));
}

export function useRemovePlatform(): UseMutationResult<void, Error, string> {
  return useChange((name) => call<void>("DELETE", ["platforms", name]));
}
