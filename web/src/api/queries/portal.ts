import { infiniteQueryOptions, keepPreviousData } from "@tanstack/react-query";
import { isUnderWay } from "../../kit/attempts";
import { api, type paths } from "../portal";
import { asking, type Read } from "./asking";

const ask = asking<paths>(api);

/** Who is signed in, and the provider's look: both stay until somebody enters or leaves. */
export const me = () => ask("/me", {}, { staleTime: Number.POSITIVE_INFINITY });

export const ownSessions = () => ask("/sessions");
export const outsideSignIns = () => ask("/outside-sign-ins");
export const ownAddress = () => ask("/address");
export const ownFactor = () => ask("/second-factor");
export const ownPasskeys = () => ask("/passkeys");
export const organisation = () => ask("/organisation");
export const closing = () => ask("/organisation/closing");

export const page = (prefix: string) => ask("/pages/{prefix}", { params: { path: { prefix } } });

export const products = () => ask("/products");
export const product = (slug: string) => ask("/products/{slug}", { params: { path: { slug } } });
type Use = paths["/products/{slug}/estimate"]["get"]["parameters"]["query"];
export const estimate = (slug: string, query: Use) =>
  ask("/products/{slug}/estimate", { params: { path: { slug }, query } });
export const operations = (slug: string) =>
  ask("/products/{slug}/operations", { params: { path: { slug } } }, { staleTime: 60_000 });
export const operation = (slug: string, id: number) =>
  ask(
    "/products/{slug}/operations/{operation_id}",
    { params: { path: { slug, operation_id: id } } },
    { staleTime: 60_000 },
  );
export const versionsToTake = (slug: string) =>
  ask("/products/{slug}/versions", { params: { path: { slug } } }, { staleTime: 60_000 });
export const clientStates = (slug: string, version: number) =>
  ask("/products/{slug}/versions/{version_id}/clients", {
    params: { path: { slug, version_id: version } },
  });
export const answering = (slug: string) =>
  ask("/products/{slug}/answering", { params: { path: { slug } } }, { staleTime: 60_000 });
export const releaseNotes = (slug: string) =>
  ask("/products/{slug}/release-notes", { params: { path: { slug } } });
export const operationsFound = (words: string) =>
  ask(
    "/operations",
    { params: { query: { words } } },
    { enabled: words.trim() !== "", placeholderData: keepPreviousData },
  );
export const ownUse = (slug: string) =>
  ask("/products/{slug}/own-use", { params: { path: { slug } } }, { staleTime: Number.POSITIVE_INFINITY });

export const questions = (slug: string, words: string) =>
  infiniteQueryOptions({
    queryKey: ["/products/{slug}/questions", slug, words],
    queryFn: ({ pageParam }) =>
      api.get("/products/{slug}/questions", {
        params: { path: { slug }, query: { words, cursor: pageParam, rows: 20 } },
      }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  });
export const question = (id: number) =>
  ask("/questions/{question_id}", { params: { path: { question_id: id } } });
export const ratings = (slug: string) => ask("/products/{slug}/ratings", { params: { path: { slug } } });

export const applications = () => ask("/applications", {}, { refetchInterval: 4_000 });
export const applicationOperations = (id: number) =>
  ask("/applications/{application_id}/operations", { params: { path: { application_id: id } } });
export const allowances = () => ask("/allowances", {}, { refetchInterval: 3_000 });
export const termsToAccept = () => ask("/terms-to-accept");

export type UseFilter = NonNullable<paths["/usage"]["get"]["parameters"]["query"]>;
export const usage = (wanted: UseFilter) =>
  ask(
    "/usage",
    { params: { query: wanted } },
    { placeholderData: keepPreviousData, refetchInterval: 30_000 },
  );
export const runningMonth = () => ask("/running-month", {}, { refetchInterval: 60_000 });

export type CallFilter = Omit<NonNullable<paths["/calls"]["get"]["parameters"]["query"]>, "cursor">;
export const calls = (filter: CallFilter) =>
  infiniteQueryOptions({
    queryKey: ["/calls", filter],
    queryFn: ({ pageParam }) => api.get("/calls", { params: { query: { ...filter, cursor: pageParam } } }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    refetchInterval: 5_000,
  });
export const receipt = (call: string | null) =>
  ask(
    "/calls/{call_id}/receipt",
    { params: { path: { call_id: call ?? "" } } },
    { enabled: call !== null, placeholderData: keepPreviousData },
  );

export const alerts = () => ask("/alerts", {}, { refetchInterval: 30_000 });

export const notices = () =>
  infiniteQueryOptions({
    queryKey: ["/notices"],
    queryFn: ({ pageParam }) => api.get("/notices", { params: { query: { cursor: pageParam } } }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
  });
export const unread = () => ask("/notices/unread", {}, { refetchInterval: 30_000 });
export const noticeChoices = () => ask("/notice-choices");

export const invoices = () => ask("/invoices");
export const ownAccount = () => ask("/account");
export const creditNotes = () => ask("/credit-notes");
export const creditNote = (id: number) =>
  ask("/credit-notes/{credit_note_id}", { params: { path: { credit_note_id: id } } });
/** An invoice, looked at again and again while it is being written down or taken from a card. */
export const invoice = (id: number) =>
  ask(
    "/invoices/{invoice_id}",
    { params: { path: { invoice_id: id } } },
    { refetchInterval: (query) => (isUnderWay(query.state.data) ? 1_500 : false) },
  );
export const ownCard = () => ask("/card");
export const lineDays = (line: number) =>
  ask("/lines/{line_id}/days", { params: { path: { line_id: line } } });

export const subscription = (id: number) =>
  ask("/subscriptions/{subscription_id}", { params: { path: { subscription_id: id } } });
type Move = paths["/subscriptions/{subscription_id}/difference"]["get"]["parameters"]["query"];
export const difference = (id: number, query: Move) =>
  ask("/subscriptions/{subscription_id}/difference", {
    params: { path: { subscription_id: id }, query },
  });

export const ownRequest = (id: number) =>
  ask("/requests/{request_id}", { params: { path: { request_id: id } } }, { refetchInterval: 10_000 });

/** What each change of a consumer's makes stale. */
export const STALE = {
  card: ["/card", "/account", "/organisation", "/invoices/{invoice_id}"],
  paying: ["/invoices", "/invoices/{invoice_id}", "/account", "/me"],
  alert: ["/alerts"],
  client: ["/products/{slug}/versions/{version_id}/clients"],
  question: ["/products/{slug}/questions"],
  notices: ["/notices", "/notices/unread"],
  organisation: ["/organisation"],
  outside: ["/outside-sign-ins"],
  myRole: ["/organisation", "/me"],
  application: ["/applications"],
  key: ["/applications"],
  request: ["/applications", "/requests/{request_id}", "/allowances", "/terms-to-accept", "/organisation"],
  terms: ["/terms-to-accept"],
  move: [
    "/subscriptions/{subscription_id}",
    "/subscriptions/{subscription_id}/difference",
    "/applications",
    "/allowances",
    "/organisation",
  ],
} satisfies Record<string, Read<paths>[]>;
