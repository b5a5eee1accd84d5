import { queryOptions, useMutation, useQueryClient, type UseMutationResult } from "@tanstack/react-query";

import { call, isStale } from "../../api/client";
import { type JobMutation, useJob } from "../../api/useJob";
import type {
  Feed,
  FeedChange,
  FoundCamera,
  NewFeed,
  NewPattern,
  Pattern,
  RevealedIngest,
  Schemas,
  Survey,
} from "../../api/types";

export const feedsKey = ["feeds"] as const;
export const patternsKey = ["patterns"] as const;

export function feedsQuery() {
  return queryOptions({ queryKey: feedsKey, queryFn: () => call<Feed[]>("GET", ["feeds"]) });
}

const PUBLISHED_REFETCH_MS = 3_000;

/** Refetch interval of the feeds while `name` is shown: short for an encoder, so that it is seen soon after it has connected. */
export function publishedRefetch(name: string): (query: { state: { data: Feed[] | undefined } }) => number | false {
  return (query) =>
    query.state.data?.some((feed) => feed.name === name && feed.ingest != null) === true ? PUBLISHED_REFETCH_MS : false;
}

export function patternsQuery() {
  return queryOptions({ queryKey: patternsKey, queryFn: () => call<Pattern[]>("GET", ["patterns"]) });
}

/** A survey, under way or done. Events keep it fresh. */
export function surveyQuery(id: string) {
  return queryOptions({ queryKey: ["survey", id], queryFn: () => call<Survey>("GET", ["surveys", id]) });
}

function useChange<Input, Output>(change: (input: Input) => Promise<Output>): UseMutationResult<Output, Error, Input> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: change,
    // The variables may hold a password: they are not kept after the request.
    gcTime: 0,
    onSuccess: () => client.invalidateQueries({ queryKey: feedsKey }),
    onError: (error) => isStale(error) && void client.invalidateQueries({ queryKey: feedsKey }),
  });
}

export function useAddFeed(): UseMutationResult<Feed, Error, NewFeed> {
  return useChange((feed) => call<Feed>("POST", ["feeds"], feed));
}

/** Changes a feed as it was at the given revision. */
export function useEditFeed(name: string, revision?: number): UseMutationResult<Feed, Error, FeedChange> {
  return useChange((change) => call<Feed>("PATCH", ["feeds", name], change, revision));
}

/** Replaces the stream key of encoders. */
export function useRekeyFeed(name: string): UseMutationResult<Feed, Error, Schemas["IngestRekey"]> {
  return useChange((rekey) => call<Feed>("POST", ["feeds", name, "rekey"], rekey));
}

/** Reveals server, stream key and passphrase for an encoder. */
export function useRevealIngest(name: string): UseMutationResult<RevealedIngest, Error, void> {
  return useMutation({
    mutationFn: () => call<RevealedIngest>("POST", ["feeds", name, "reveal"]),
    gcTime: 0,
  });
}

export function useRemoveFeed(): UseMutationResult<void, Error, string> {
  return useChange((name) => call<void>("DELETE", ["feeds", name]));
}

/** Subject of a survey: a stored feed, or an address. */
export type SurveyOf = Schemas["NewSurvey"];

export function useBeginSurvey(): UseMutationResult<Survey, Error, SurveyOf> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (of) => call<Survey>("POST", ["surveys"], of),
    gcTime: 0,
    onSuccess: (survey) => client.setQueryData(surveyQuery(survey.id).queryKey, (known) => known ?? survey),
  });
}

export type FindAt = Schemas["NewDiscovery"];

/** Searches for cameras; takes some seconds. */
export function useFind(): JobMutation<FoundCamera[], FindAt> {
  return useJob<FoundCamera[], FindAt>(["discoveries"]);
}

/** Adds a pattern, or replaces the named one as it was at the given revision. */
export function useSavePattern(name: string | null, revision?: number): UseMutationResult<Pattern, Error, NewPattern> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (pattern) =>
      name === null
        ? call<Pattern>("POST", ["patterns"], pattern)
        : call<Pattern>("PUT", ["patterns", name], pattern, revision),
    onSuccess: () => client.invalidateQueries({ queryKey: patternsKey }),
  });
}

export function useRemovePattern(): UseMutationResult<void, Error, string> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (name) => call<void>("DELETE", ["patterns", name]),
    onSuccess: () => client.invalidateQueries({ queryKey: patternsKey }),
  });
}

export type PatternFeeds = Schemas["PatternFeeds"];

/** Adds the feeds of a filled-in pattern, all or none. */
export function usePatternFeeds(pattern: string): UseMutationResult<Feed[], Error, PatternFeeds> {
  return useChange((feeds) => call<Feed[]>("POST", ["patterns", pattern, "feeds"], feeds));
}
