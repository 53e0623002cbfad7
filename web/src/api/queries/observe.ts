import { infiniteQueryOptions, keepPreviousData } from "@tanstack/react-query";
import { api, type paths } from "../console";
import { asking, type List, type Read } from "./asking";

const ask = asking<paths>(api);

export type CallFilter = Omit<NonNullable<paths["/calls"]["get"]["parameters"]["query"]>, "cursor">;

export const today = () => ask("/today", {}, { refetchInterval: 30_000 });
export const counts = () => ask("/counts", {}, { refetchInterval: 20_000 });
export const found = (words: string) =>
  ask(
    "/find",
    { params: { query: { words } } },
    { enabled: words.trim().length > 0, placeholderData: keepPreviousData },
  );

export const traffic = (filter: CallFilter) =>
  ask("/traffic", { params: { query: filter } }, { placeholderData: keepPreviousData });
export const calls = (filter: CallFilter) =>
  infiniteQueryOptions({
    queryKey: ["/calls", filter],
    queryFn: ({ pageParam }) => api.get("/calls", { params: { query: { ...filter, cursor: pageParam } } }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  });
export const receipt = (call: string | null) =>
  ask(
    "/calls/{call_id}/receipt",
    { params: { path: { call_id: call ?? "" } } },
    { enabled: call !== null, placeholderData: keepPreviousData },
  );

/** What new calls make stale: the log too, where no more than its first page is shown. */
export const STALE = {
  traffic: ["/traffic"],
  trafficAndLog: ["/traffic", "/calls"],
} satisfies Record<string, (Read<paths> | List<paths>)[]>;
