import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, type Console, type paths } from "../console";
import { asking, type Read } from "./asking";

const ask = asking<paths>(api);

/** Who is signed in, and how the house writes time and money: both stay until somebody enters or leaves. */
export const me = () => ask("/me", {}, { staleTime: Number.POSITIVE_INFINITY });

export const ownNotices = () =>
  infiniteQueryOptions({
    queryKey: ["/notices"],
    queryFn: ({ pageParam }) => api.get("/notices", { params: { query: { cursor: pageParam } } }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
  });
export const noticeChoices = () => ask("/notice-choices");

export const colleagues = () => ask("/people");
export const housePeople = () => ask("/house/people");
export const houseInvitations = () => ask("/house/invitations");
export const factorRule = () => ask("/house/second-factor");
export const houseSettings = () => ask("/house/settings");
export const houseProvider = () => ask("/house/identity-provider");
export const personSessions = (id: number) =>
  ask("/house/people/{person_id}/sessions", { params: { path: { person_id: id } } });
export const recordChoices = () => ask("/record/choices");
export const scopes = () => ask("/scopes", {}, { staleTime: Number.POSITIVE_INFINITY });
export const ownSessions = () => ask("/sessions");
export const ownAddress = () => ask("/address");
export const ownFactor = () => ask("/second-factor");
export const ownPasskeys = () => ask("/passkeys");
export const endpoints = () => ask("/endpoints", {}, { refetchInterval: 5_000 });
export const endpoint = (id: number) =>
  ask("/endpoints/{endpoint_id}", { params: { path: { endpoint_id: id } } }, { refetchInterval: 3_000 });
export const nextEvent = (id: number) =>
  ask("/endpoints/{endpoint_id}/next", { params: { path: { endpoint_id: id } } }, { refetchInterval: 3_000 });
export const eventTopics = () => ask("/event-topics", {}, { staleTime: Number.POSITIVE_INFINITY });
export const noticeKinds = () => ask("/notice-kinds");
export const noticeKind = (name: string) => ask("/notice-kinds/{name}", { params: { path: { name } } });
export const noticePreview = (name: string, words: Console["Words"]) =>
  queryOptions({
    queryKey: ["/notice-kinds/{name}/preview", name, words],
    queryFn: () => api.post("/notice-kinds/{name}/preview", { params: { path: { name } }, body: words }),
    placeholderData: keepPreviousData,
    retry: false,
  });
export const letterInFull = (id: number) =>
  ask("/letters/{letter_id}", { params: { path: { letter_id: id } } }, { refetchInterval: 5_000 });
export const serviceTokens = () => ask("/service-tokens");

/** What each change in the house makes stale. */
export const STALE = {
  ownNotices: ["/notices", "/counts"],
  token: ["/service-tokens"],
  notice: ["/notice-kinds", "/notice-kinds/{name}"],
  letter: ["/letters", "/letters/{letter_id}"],
  endpoint: [
    "/endpoints",
    "/endpoints/{endpoint_id}",
    "/endpoints/{endpoint_id}/next",
    "/endpoints/{endpoint_id}/deliveries",
  ],
  person: ["/house/people", "/house/people/{person_id}/sessions", "/people"],
  ownRoles: ["/house/people", "/people", "/me"],
  houseInvitations: ["/house/invitations"],
  houseProvider: ["/house/identity-provider", "/me"],
  houseSettings: ["/house/settings", "/me", "/today"],
  factorRule: ["/house/second-factor"],
} satisfies Record<string, Read<paths>[]>;
