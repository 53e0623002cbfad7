import { keepPreviousData } from "@tanstack/react-query";
import { api, type paths } from "../console";
import { asking, type List, type Read } from "./asking";

const ask = asking<paths>(api);

export const request = (id: number) =>
  ask("/requests/{request_id}", { params: { path: { request_id: id } } }, { refetchInterval: 5_000 });
/** What was decided of late and can still be undone: nobody has been told of it. */
export const undoable = () =>
  ask("/requests", { params: { query: { undoable: true, rows: 20 } } }, { refetchInterval: 5_000 });
export const subscriptionHistory = (id: number) =>
  ask("/subscriptions/{subscription_id}/history", { params: { path: { subscription_id: id } } });
const held = (id: number) => ({ params: { path: { subscription_id: id } } });
export const subscription = (id: number) => ask("/subscriptions/{subscription_id}", held(id));
type Move = paths["/subscriptions/{subscription_id}/difference"]["get"]["parameters"]["query"];
export const difference = (id: number, query: Move) =>
  ask("/subscriptions/{subscription_id}/difference", {
    params: { path: { subscription_id: id }, query },
  });
export const declineReasons = () => ask("/decline-reasons");

const one = (id: number) => ({ params: { path: { consumer_id: id } } });
export const consumer = (id: number) => ask("/consumers/{consumer_id}", one(id));
export const countries = () => ask("/countries", {}, { staleTime: Number.POSITIVE_INFINITY });
export const closingOf = (id: number) => ask("/consumers/{consumer_id}/closing", one(id));
export const mergingOf = (id: number, into: number) =>
  ask("/consumers/{consumer_id}/merging/{into_id}", {
    params: { path: { consumer_id: id, into_id: into } },
  });
export const erasingOf = (id: number) => ask("/consumers/{consumer_id}/erasing", one(id));
export const erasingOfMember = (id: number) =>
  ask("/members/{member_id}/erasing", { params: { path: { member_id: id } } });
export const importColumns = () => ask("/imports/columns", {}, { staleTime: Number.POSITIVE_INFINITY });
/** A file as far as it is brought in; looked at often while something goes on. */
export const importOf = (id: number) =>
  ask("/imports/{import_id}", { params: { path: { import_id: id } } }, { refetchInterval: 1_000 });
export const overrides = (id: number) => ask("/consumers/{consumer_id}/overrides", one(id));
export const limitsOf = (id: number) => ask("/consumers/{consumer_id}/limits", one(id));
export const consumersNamed = (words: string) =>
  ask("/consumers", { params: { query: { words, rows: 20 } } }, { placeholderData: keepPreviousData });

export const groups = () => ask("/groups");

const at = (id: number) => ({ params: { path: { portal_id: id } } });
export const portals = () => ask("/portals");
export const portal = (id: number) => ask("/portals/{portal_id}", at(id));
export const invitations = (id: number) => ask("/portals/{portal_id}/invitations", at(id));
export const fonts = () => ask("/portals/fonts", {}, { staleTime: Number.POSITIVE_INFINITY });
export const contrast = (main: string, accent: string) =>
  ask(
    "/portals/contrast",
    { params: { query: { main, accent } } },
    { placeholderData: keepPreviousData, staleTime: Number.POSITIVE_INFINITY },
  );

export const ownSite = (id: number) =>
  ask("/portals/{portal_id}/own-site", { params: { path: { portal_id: id } } });
export const portalSignIn = (id: number) =>
  ask("/portals/{portal_id}/sign-in", { params: { path: { portal_id: id } } });
export const question = (id: number) =>
  ask("/questions/{question_id}", { params: { path: { question_id: id } } });
export const ratings = () => ask("/ratings");
export const ratingsOf = (id: number | null) =>
  ask(
    "/products/{product_id}/ratings",
    { params: { path: { product_id: id ?? 0 } } },
    { enabled: id !== null },
  );

/** What each decision about consumers makes stale. */
export const STALE = {
  request: [
    "/requests",
    "/requests/{request_id}",
    "/consumers",
    "/consumers/{consumer_id}",
    "/consumers/{consumer_id}/limits",
    "/allowances",
    "/counts",
    "/today",
  ],
  override: ["/consumers/{consumer_id}/overrides", "/consumers/{consumer_id}", "/allowances"],
  group: ["/groups"],
  portal: ["/portals", "/portals/{portal_id}"],
  ownSite: ["/portals/{portal_id}/own-site"],
  portalSignIn: ["/portals/{portal_id}/sign-in"],
  invitation: ["/portals/{portal_id}/invitations"],
  question: ["/questions", "/counts", "/today"],
  declineReasons: ["/decline-reasons"],
  consumerMade: ["/consumers", "/consumers/{consumer_id}"],
  move: [
    "/subscriptions/{subscription_id}",
    "/subscriptions/{subscription_id}/difference",
    "/subscriptions/{subscription_id}/history",
    "/consumers/{consumer_id}",
    "/requests",
    "/allowances",
  ],
  import: ["/imports", "/imports/{import_id}", "/imports/{import_id}/rows"],
  details: ["/consumers/{consumer_id}"],
  merged: ["/consumers", "/consumers/{consumer_id}", "/groups", "/requests", "/allowances", "/today"],
  erased: ["/consumers", "/consumers/{consumer_id}", "/questions"],
  suspension: ["/consumers", "/consumers/{consumer_id}"],
  note: ["/consumers/{consumer_id}"],
  answer: ["/consumers", "/consumers/{consumer_id}", "/today"],
} satisfies Record<string, (Read<paths> | List<paths>)[]>;
