import {
  keepPreviousData,
  queryOptions,
  useMutation,
  useQueryClient,
  type UseMutationResult,
} from "@tanstack/react-query";

import { call } from "../../api/client";
import type { Budget, NewUplink, Uplink, UplinkBudget, WhatIf } from "../../api/types";

export const budgetKey = ["budget"] as const;
export const uplinksKey = ["uplinks"] as const;

/** Uplinks, bit rates and the month's traffic: as they are, or as they would be. */
export function budgetQuery(whatIf: WhatIf = {}) {
  return queryOptions({
    queryKey: [...budgetKey, whatIf],
    queryFn: () => call<Budget>("POST", ["budget"], whatIf),
    // While something else is asked for, what was shown stays.
    placeholderData: keepPreviousData,
    // Rates are measured all the time, and nobody tells of a budget: each look is a new one.
    staleTime: 10_000,
  });
}

export function uplinksQuery() {
  return queryOptions({ queryKey: uplinksKey, queryFn: () => call<Uplink[]>("GET", ["uplinks"]) });
}

/** The uplink of which the largest share is used; a backup one carries nothing while the main one works. */
export function heaviest(uplinks: readonly UplinkBudget[]): UplinkBudget | undefined {
  const share = (each: UplinkBudget) => each.sum_kbps / Math.max(1, each.uplink.up_kbps);
  return uplinks.filter((each) => !each.uplink.backup).sort((a, b) => share(b) - share(a))[0];
}

/** Adds an uplink, or changes the named one as it was at the given revision. */
export function useSaveUplink(name: string | null, revision?: number): UseMutationResult<Uplink, Error, NewUplink> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (uplink) =>
      name === null
        ? call<Uplink>("POST", ["uplinks"], uplink)
        : call<Uplink>("PATCH", ["uplinks", name], uplink, revision),
    onSuccess: () => Promise.all([budgetKey, uplinksKey].map((queryKey) => client.invalidateQueries({ queryKey }))),
  });
}

export function useRemoveUplink(): UseMutationResult<void, Error, string> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (name) => call<void>("DELETE", ["uplinks", name]),
    onSuccess: () => Promise.all([budgetKey, uplinksKey].map((queryKey) => client.invalidateQueries({ queryKey }))),
  });
}
