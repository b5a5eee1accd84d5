import { queryOptions, useMutation, useQueryClient, type UseMutationResult } from "@tanstack/react-query";

import { useNavigate } from "react-router";

import { call, setSessionToken } from "../../api/client";
import type { Invitation, SignedIn } from "../../api/types";

/** Signed-in person. Fails with status 401 without a session. */
export function sessionQuery() {
  return queryOptions({
    queryKey: ["session"],
    queryFn: async () => remember(await call<SignedIn>("GET", ["session"])),
  });
}

function remember(session: SignedIn): SignedIn {
  setSessionToken(session.token);
  return session;
}

type Entry = { name: string; password: string };

/** Signs in with a name and a password, or sets up the first person when there is a code. */
export function useEnter(code: string | null): UseMutationResult<SignedIn, Error, Entry> {
  const client = useQueryClient();
  const navigate = useNavigate();
  return useMutation({
    mutationFn: async (entry: Entry) =>
      code === null
        ? call<SignedIn>("POST", ["session"], entry)
        : call<SignedIn>("POST", ["setup"], { ...entry, code }),
    onSuccess: (session) => {
      if (code !== null) {
        // The code goes with the address.
        void navigate("/", { replace: true });
      }
      client.setQueryData(sessionQuery().queryKey, remember(session));
    },
  });
}

/** Invitation of a link's code. */
export function invitationQuery(code: string) {
  return queryOptions({
    queryKey: ["invitation"],
    queryFn: () => call<Invitation>("POST", ["invitations", "look"], { code }),
  });
}

/** Accepts an invitation and signs in. */
export function useJoin(code: string): UseMutationResult<SignedIn, Error, string> {
  return useMutation({
    mutationFn: (password: string) => call<SignedIn>("POST", ["invitations", "join"], { code, password }),
    // The code goes with the address.
    onSuccess: () => window.location.replace("/"),
  });
}

export function useSignOut(): UseMutationResult<void, Error, void> {
  return useMutation({
    mutationFn: () => call<void>("DELETE", ["session"]),
    // A full reload clears all cached data.
    onSuccess: () => window.location.assign("/"),
  });
}
