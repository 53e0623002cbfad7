import { isUnderWay } from "../../kit/attempts";
import { api, type Console, type paths } from "../console";
import { asking, type List, type Read } from "./asking";

const ask = asking<paths>(api);

export const periods = () => ask("/periods");
/** A charge run as far as it is, looked at again and again while it goes on. */
export const chargeRun = (id: number) =>
  ask(
    "/charge-runs/{run_id}",
    { params: { path: { run_id: id } } },
    { refetchInterval: (query) => (query.state.data?.state === "running" ? 700 : false) },
  );
/** An invoice, looked at again and again while it is being written down or taken from a card. */
export const invoice = (id: number) =>
  ask(
    "/invoices/{invoice_id}",
    { params: { path: { invoice_id: id } } },
    { refetchInterval: (query) => (isUnderWay(query.state.data) ? 1_500 : false) },
  );
/** Archives of what was issued for a period, looked at again and again while one is put together. */
export const bundles = (start: string) =>
  ask(
    "/periods/{start}/bundles",
    { params: { path: { start } } },
    { refetchInterval: (query) => (query.state.data?.some((b) => b.state === "running") ? 700 : false) },
  );
/** The books, looked at again and again while they are looked through. */
export const books = () =>
  ask("/books", {}, { refetchInterval: (query) => (query.state.data?.going ? 700 : false) });
/** The months of the bookkeeper's journal. */
export const journal = () => ask("/journal");
export const journalMonth = (month: string) => ask("/journal/{month}", { params: { path: { month } } });
/** The handoff in a few figures, which move while it goes on. */
export const handoff = () => ask("/handoff", {}, { refetchInterval: 5_000 });
/** The customers and prices there are outside, asked there. */
export const knownOutside = () => ask("/handoff/outside", {}, { retry: false, staleTime: 60_000 });
/** The plans of what is billed outside; they are few. */
export const mappedPlans = () => ask("/handoff/plans", { params: { query: { rows: 1000 } } });
export const handedBatch = (id: number) =>
  ask("/handoff/batches/{batch_id}", { params: { path: { batch_id: id } } }, { refetchInterval: 2_000 });
/** The accounts of the ledger and their names. */
export const ledgerAccounts = () => ask("/ledger-accounts");
export const creditNote = (id: number) =>
  ask("/credit-notes/{credit_note_id}", { params: { path: { credit_note_id: id } } });
export const account = (id: number) =>
  ask("/accounts/{consumer_id}", { params: { path: { consumer_id: id } } });
/** Which column of the bank's CSV files is what. */
export const bankColumns = () => ask("/bank/columns");
/** The statement that was brought in last, if any was. */
export const lastStatement = () => ask("/bank/statements", { params: { query: { rows: 1 } } });
/** What a credit note would come to, as it is typed. */
export const creditWorkedOut = (id: number, body: Console["CreditNoteIn"]) => ({
  queryKey: ["/invoices/{invoice_id}/credit-notes/worked-out", id, body],
  queryFn: () =>
    api.post("/invoices/{invoice_id}/credit-notes/worked-out", {
      params: { path: { invoice_id: id } },
      body,
    }),
  retry: false,
});
/** What striking calls out would change, as they are chosen. */
export const strikePreview = (which: Partial<Console["CallsIn"]>) => ({
  queryKey: ["/strikes/preview", which],
  queryFn: () => api.post("/strikes/preview", { body: which as Console["CallsIn"] }),
  retry: false,
});
export const lineDays = (line: number) =>
  ask("/lines/{line_id}/days", { params: { path: { line_id: line } } });

const INVOICES = [
  "/periods",
  "/periods/{start}/charges",
  "/periods/{start}/drafts",
  "/charge-runs/{run_id}",
  "/invoices/{invoice_id}",
  "/accounts",
  "/accounts/{consumer_id}",
  "/accounts/{consumer_id}/entries",
  "/consumers/{consumer_id}",
  "/counts",
  "/today",
  "/payment-attempts",
] satisfies (Read<paths> | List<paths>)[];

/** What drafting, adjusting, issuing, crediting or paying invoices makes stale, what the bank says,
 * and what is struck out. */
export const STALE = {
  invoices: INVOICES,
  reckoned: ["/periods/{start}/charges"],
  strikes: [...INVOICES, "/strikes", "/calls", "/calls/{call_id}/receipt", "/lines/{line_id}/days"],
  bundles: ["/periods/{start}/bundles"],
  books: ["/books", "/books/differences", "/books/{start}/units", "/counts"],
  journal: ["/journal", "/journal/{month}", "/journal/{month}/entries", "/ledger-accounts"],
  handoff: [
    "/handoff",
    "/handoff/consumers",
    "/handoff/plans",
    "/handoff/subscriptions",
    "/handoff/batches",
    "/handoff/batches/{batch_id}",
    "/handoff/events",
    "/handoff/{start}/sums",
    "/handoff/words",
    "/counts",
  ],
  bank: [...INVOICES, "/bank/waiting", "/bank/done", "/bank/statements", "/bank/columns"],
} satisfies Record<string, (Read<paths> | List<paths>)[]>;
