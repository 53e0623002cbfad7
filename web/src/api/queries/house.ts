import { api, type paths } from "../console";
import { asking, type Read } from "./asking";

const ask = asking<paths>(api);

/** Who is signed in, and how the house writes time and money: both stay until somebody enters or leaves. */
export const me = () => ask("/me", {}, { staleTime: Number.POSITIVE_INFINITY });

export const people = () => ask("/people");
export const ownSessions = () => ask("/sessions");
export const ownAddress = () => ask("/address");
export const ownFactor = () => ask("/second-factor");
export const ownPasskeys = () => ask("/passkeys");
export const serviceTokens = () => ask("/service-tokens");

/** What each change in the house makes stale. */
export const STALE = {
  token: ["/service-tokens"],
} satisfies Record<string, Read<paths>[]>;
