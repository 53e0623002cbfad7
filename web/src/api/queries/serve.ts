import { api, type paths } from "../console";
import { asking, type List, type Read } from "./asking";

const ask = asking<paths>(api);

export const health = () => ask("/health", {}, { refetchInterval: 1_000 });
export const benchOffers = () => ask("/bench/offers");

/** A file of another gateway's calls as far as it is, looked at again while it goes on. */
export const usageFile = (id: number) =>
  ask(
    "/usage/files/{usage_file_id}",
    { params: { path: { usage_file_id: id } } },
    {
      refetchInterval: (query) =>
        ["checking", "recording"].includes(query.state.data?.stage ?? "") ? 700 : false,
    },
  );
/** What such a file comes to; asked for anew at each stage of it. */
export const usageMonths = (id: number, stage: string) => ({
  ...ask("/usage/files/{usage_file_id}/months", { params: { path: { usage_file_id: id } } }),
  enabled: stage !== "checking",
});

/** What each change to the serving makes stale. */
export const STALE = {
  job: ["/jobs", "/today"],
  usage: [
    "/usage/files",
    "/usage/files/{usage_file_id}",
    "/usage/files/{usage_file_id}/months",
    "/usage/files/{usage_file_id}/unusable",
    "/today",
  ],
} satisfies Record<string, (Read<paths> | List<paths>)[]>;
