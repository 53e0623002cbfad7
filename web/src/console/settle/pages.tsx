import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { UsageFilePage } from "../serve/usage-file";
import { UsageFiles } from "../serve/usage-files";
import { AccountPage } from "./accounts/account";
import { Accounts } from "./accounts/accounts";
import { Books } from "./books/books";
import { Journal, JournalMonth } from "./books/journal";
import { LedgerNames } from "./books/ledger-names";
import { BooksUnits } from "./books/units";
import { HandedBatch, HandedBatches, HandedEvents } from "./handoff/handed";
import { HandoffMapping, HandoffSubscriptions } from "./handoff/mapping";
import { HandoffSums, HandoffWords } from "./handoff/sums";
import { CreditNotePage } from "./invoice/credit-note";
import { InvoicePage } from "./invoice/invoice";
import { Payments } from "./payments/payments";
import { PeriodPage, Periods } from "./periods/periods";
import { StruckOut } from "./striking";

/** What is charged and paid: periods, their runs, invoices, accounts, payments, and usage from elsewhere. */
export function SettlePages() {
  return (
    <Routes>
      <Route path="periods" element={<Periods />} />
      <Route path="periods/:start" element={<PeriodPage />} />
      <Route path="invoices/:id" element={<InvoicePage />} />
      <Route path="accounts" element={<Accounts />} />
      <Route path="accounts/:id" element={<AccountPage />} />
      <Route path="payments" element={<Payments />} />
      <Route path="books" element={<Books />} />
      <Route path="books/journal" element={<Journal />} />
      <Route path="books/journal/:start" element={<JournalMonth />} />
      <Route path="books/accounts" element={<LedgerNames />} />
      <Route path="books/:start" element={<BooksUnits />} />
      <Route path="handoff" element={<HandoffMapping />} />
      <Route path="handoff/subscriptions" element={<HandoffSubscriptions />} />
      <Route path="handoff/batches" element={<HandedBatches />} />
      <Route path="handoff/batches/:id" element={<HandedBatch />} />
      <Route path="handoff/events" element={<HandedEvents />} />
      <Route path="handoff/words" element={<HandoffWords />} />
      <Route path="handoff/sums/:start" element={<HandoffSums />} />
      <Route path="struck-out" element={<StruckOut />} />
      <Route path="usage" element={<UsageFiles />} />
      <Route path="usage/:id" element={<UsageFilePage />} />
      <Route path="credit-notes/:id" element={<CreditNotePage />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
