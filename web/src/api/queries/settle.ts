import { api, type paths } from "../console";
import { asking, type List, type Read } from "./asking";

const ask = asking<paths>(api);

export const periods = () => ask("/periods");
export const invoice = (id: number) =>
  ask("/invoices/{invoice_id}", { params: { path: { invoice_id: id } } });
export const creditNote = (id: number) =>
  ask("/credit-notes/{credit_note_id}", { params: { path: { credit_note_id: id } } });
export const lineDays = (line: number) =>
  ask("/lines/{line_id}/days", { params: { path: { line_id: line } } });

/** What drafting, adjusting, issuing or crediting invoices makes stale. */
export const STALE = {
  invoices: [
    "/periods",
    "/periods/{start}/charges",
    "/invoices/{invoice_id}",
    "/consumers/{consumer_id}",
    "/counts",
    "/today",
  ],
} satisfies Record<string, (Read<paths> | List<paths>)[]>;
