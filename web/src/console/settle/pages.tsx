import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { AccountPage } from "./account";
import { Accounts } from "./accounts";
import { CreditNotePage } from "./credit-note";
import { InvoicePage } from "./invoice";
import { Payments } from "./payments";
import { PeriodPage, Periods } from "./periods";

/** What is charged and paid: periods, their runs, invoices, accounts and payments. */
export function SettlePages() {
  return (
    <Routes>
      <Route path="periods" element={<Periods />} />
      <Route path="periods/:start" element={<PeriodPage />} />
      <Route path="invoices/:id" element={<InvoicePage />} />
      <Route path="accounts" element={<Accounts />} />
      <Route path="accounts/:id" element={<AccountPage />} />
      <Route path="payments" element={<Payments />} />
      <Route path="credit-notes/:id" element={<CreditNotePage />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
