import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { CreditNotePage } from "./credit-note";
import { InvoicePage } from "./invoice";
import { PeriodPage, Periods } from "./periods";

/** What is charged: periods, their runs, and invoices. */
export function SettlePages() {
  return (
    <Routes>
      <Route path="periods" element={<Periods />} />
      <Route path="periods/:start" element={<PeriodPage />} />
      <Route path="invoices/:id" element={<InvoicePage />} />
      <Route path="credit-notes/:id" element={<CreditNotePage />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
