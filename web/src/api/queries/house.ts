import { api, type paths } from "../console";
import { asking, type Read } from "./asking";

const ask = asking<paths>(api);

/** Who is signed in, and how the house writes time and money: both stay until somebody enters or leaves. */
export const me = () => ask("/me", {}, { staleTime: Number.POSITIVE_INFINITY });

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
export const serviceTokens = () => ask("/service-tokens");

/** What each change in the house makes stale. */
export const STALE = {
  token: ["/service-tokens"],
  person: ["/house/people", "/house/people/{person_id}/sessions", "/people"],
  ownRoles: ["/house/people", "/people", "/me"],
  houseInvitations: ["/house/invitations"],
  houseProvider: ["/house/identity-provider", "/me"],
  houseSettings: ["/house/settings", "/me", "/today"],
  factorRule: ["/house/second-factor"],
} satisfies Record<string, Read<paths>[]>;
