import { queryOptions, useMutation, useQueryClient, type UseMutationResult } from "@tanstack/react-query";

import { call } from "../../api/client";
import type {
  AddedContact,
  Alert,
  Check,
  Invitation,
  MadeInvitation,
  MadeToken,
  NewAlert,
  NewContact,
  Person,
  Contact,
  Role,
  Schemas,
  Session,
  SiteBook,
  Token,
} from "../../api/types";

export const peopleKey = ["people"] as const;
export const tokensKey = ["tokens"] as const;
export const alertsKey = ["alerts"] as const;
export const contactsKey = ["contacts"] as const;

export function peopleQuery() {
  return queryOptions({ queryKey: [...peopleKey, "all"], queryFn: () => call<Person[]>("GET", ["people"]) });
}

export function invitationsQuery() {
  return queryOptions({
    queryKey: [...peopleKey, "invited"],
    queryFn: () => call<Invitation[]>("GET", ["invitations"]),
  });
}

export function sessionsQuery() {
  return queryOptions({ queryKey: [...peopleKey, "sessions"], queryFn: () => call<Session[]>("GET", ["sessions"]) });
}

export function tokensQuery() {
  return queryOptions({ queryKey: tokensKey, queryFn: () => call<Token[]>("GET", ["tokens"]) });
}

export function alertsQuery() {
  return queryOptions({ queryKey: alertsKey, queryFn: () => call<Alert[]>("GET", ["alerts"]) });
}

export function contactsQuery() {
  return queryOptions({ queryKey: contactsKey, queryFn: () => call<Contact[]>("GET", ["contacts"]) });
}

/** Health checks, made at each request. */
export function selfcheckQuery() {
  return queryOptions({ queryKey: ["selfcheck"], queryFn: () => call<Check[]>("GET", ["selfcheck"]), staleTime: 0 });
}

export function fetchBook(): Promise<SiteBook> {
  return call<SiteBook>("GET", ["book"]);
}

function useChange<Input, Output>(
  key: readonly string[],
  change: (input: Input) => Promise<Output>,
): UseMutationResult<Output, Error, Input> {
  const client = useQueryClient();
  return useMutation({
    mutationFn: change,
    // Answers hold codes and secrets that are shown once.
    gcTime: 0,
    onSuccess: () => client.invalidateQueries({ queryKey: key }),
  });
}

export function useInvite(): UseMutationResult<MadeInvitation, Error, { name: string; role?: Role }> {
  return useChange(peopleKey, (invitation) => call<MadeInvitation>("POST", ["invitations"], invitation));
}

export function useWithdraw(): UseMutationResult<void, Error, string> {
  return useChange(peopleKey, (name) => call<void>("DELETE", ["invitations", name]));
}

export function useSetRole(): UseMutationResult<Person, Error, { name: string; role: Role }> {
  return useChange(peopleKey, ({ name, role }) => call<Person>("PATCH", ["people", name], { role }));
}

export function useRemovePerson(): UseMutationResult<void, Error, string> {
  return useChange(peopleKey, (name) => call<void>("DELETE", ["people", name]));
}

export function useEndSession(): UseMutationResult<void, Error, string> {
  return useChange(peopleKey, (id) => call<void>("DELETE", ["sessions", id]));
}

export function useChangePassword(): UseMutationResult<void, Error, { current: string; new: string }> {
  return useChange(peopleKey, (change) => call<void>("POST", ["session", "password"], change));
}

export function useAddToken(): UseMutationResult<MadeToken, Error, Schemas["NewToken"]> {
  return useChange(tokensKey, (token) => call<MadeToken>("POST", ["tokens"], token));
}

export function useRemoveToken(): UseMutationResult<void, Error, string> {
  return useChange(tokensKey, (name) => call<void>("DELETE", ["tokens", name]));
}

export function useAcknowledge(): UseMutationResult<Alert, Error, { name: string; subject: string }> {
  return useChange(alertsKey, ({ name, subject }) => call<Alert>("POST", ["alerts", name, "acknowledge"], { subject }));
}

/** Mutes an alert for some seconds; 0 ends the mute. */
export function useMute(): UseMutationResult<Alert, Error, { name: string; for_s: number }> {
  return useChange(alertsKey, ({ name, for_s }) => call<Alert>("POST", ["alerts", name, "mute"], { for_s }));
}

/** Adds an alert, or changes the named one as it was at the given revision. */
export function useSaveAlert(name: string | null, revision?: number): UseMutationResult<Alert, Error, NewAlert> {
  return useChange(alertsKey, (alert) =>
    name === null ? call<Alert>("POST", ["alerts"], alert) : call<Alert>("PATCH", ["alerts", name], alert, revision),
  );
}

export function useRemoveAlert(): UseMutationResult<void, Error, string> {
  return useChange(alertsKey, (name) => call<void>("DELETE", ["alerts", name]));
}

export function useAddContact(): UseMutationResult<AddedContact, Error, NewContact> {
  return useChange(contactsKey, (contact) => call<AddedContact>("POST", ["contacts"], contact));
}

export function useRemoveContact(): UseMutationResult<void, Error, string> {
  return useChange(contactsKey, (name) => call<void>("DELETE", ["contacts", name]));
}

export function useTestContact(): UseMutationResult<void, Error, string> {
  return useMutation({ mutationFn: (name) => call<void>("POST", ["contacts", name, "test"]) });
}
