import { api, type paths } from "../console";
import { asking, type List, type Read } from "./asking";

const ask = asking<paths>(api);

export const health = () => ask("/health", {}, { refetchInterval: 1_000 });
export const benchOffers = () => ask("/bench/offers");

/** What each change to the serving makes stale. */
export const STALE = {
  job: ["/jobs", "/today"],
} satisfies Record<string, (Read<paths> | List<paths>)[]>;
