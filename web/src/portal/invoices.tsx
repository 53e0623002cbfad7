import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { BEGINS } from "../api/begins";
import type { Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { creditNote, creditNotes, invoice, invoices, ownAccount, STALE } from "../api/queries/portal";
import { Trouble, Waiting } from "../kit/controls";
import { DocumentLines, Saved } from "../kit/document";
import { amount, date, dayAndYear, inFours, month } from "../kit/format";
import { Closing } from "../kit/ledger";
import { Table } from "../kit/table";
import { ByCard } from "./card";
import { Owing } from "./ledger";
import { callsLink, documentLink, useDays } from "./links";
import { useMe } from "./me";

export function Invoices() {
  const list = useQuery(invoices());
  const account = useQuery(ownAccount());
  const { consumer } = useMe();
  return (
    <>
      <h1>Invoices</h1>
      <p className="mt-1">
        {account.data && <Owing of={account.data} />}{" "}
        <Link className="figure-link" to="/account">
          Your account, entry by entry
        </Link>
      </p>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Fetching your invoices" />}
      {list.data?.length === 0 && (
        <p className="mt-4 text-soft">
          None yet. After the end of a month its invoice comes here, and by mail.
        </p>
      )}
      {list.data && list.data.length > 0 && (
        <Table
          className="mt-3 max-w-[760px]"
          rows={list.data}
          id={(i) => i.id}
          columns={[
            {
              head: "Invoice",
              cell: (i) => (
                <Link className="figure-link" to={`/invoices/${i.id}`}>
                  {i.number}
                </Link>
              ),
            },
            {
              head: "For",
              cell: (i) => (
                <>
                  {month(i.period_start)}
                  {i.consumer !== consumer && <span className="text-soft"> of {i.consumer}</span>}
                </>
              ),
            },
            {
              head: "State",
              cell: (i) => (
                <>
                  {i.state}
                  {Number(i.open) > 0 && i.open !== i.total && `, ${amount(i.open, i.currency)} open`}
                </>
              ),
            },
            { head: "Due", cell: (i) => (i.due_on ? date(i.due_on) : "") },
            { head: "Total", cell: (i) => amount(i.total, i.currency), number: true },
          ]}
        />
      )}
      <CreditNotes />
    </>
  );
}

export function InvoicePage() {
  const { id } = useParams();
  const one = useQuery(invoice(Number(id)));
  if (!one.data) return one.error ? <Trouble error={one.error} /> : <Waiting words="Fetching the invoice" />;
  const { summary: s } = one.data;
  return (
    <>
      <h1>Invoice {s.number}</h1>
      <p className="mt-1 text-soft">
        {month(s.period_start)} · {s.state}
        {s.due_on && `, due ${date(s.due_on)}`}
        {one.data.paid && `, to be paid ${one.data.paid}`} ·{" "}
        <a className="figure-link" href={`${BEGINS}/api/v1/invoices/${id}/evidence`} download>
          save the evidence file
        </a>{" "}
        · <Saved base={`${BEGINS}/api/v1/invoices/${id}`} files={one.data.files} />
      </p>
      {one.data.credit_notes.map((note) => (
        <p key={note.id} className="mt-1">
          Credit note{" "}
          <Link className="figure-link" to={`/credit-notes/${note.id}`}>
            {note.number}
          </Link>{" "}
          takes {amount(note.total, note.currency)} off it.
        </p>
      ))}
      <ToPay of={one.data} />
      <DocumentLines of={one.data} documentLink={documentLink} callsLink={callsLink} useDays={useDays} />
    </>
  );
}

/** What is still to be paid of an invoice and how, and what closed it. */
function ToPay({ of }: { of: Portal["InvoiceView"] }) {
  const stale = useStale();
  const { currency, open, due_on, state } = of.summary;
  const { transfer } = of;
  return (
    <section aria-label="Paying it" className="mt-3 max-w-[560px]">
      {transfer && of.next_try === null && (
        <p className="bg-(--portal-tint) px-4 py-3">
          <b>{amount(open, currency)}</b>{" "}
          {due_on && `${state === "overdue" ? "were" : "are"} to be paid by ${date(due_on)}`}
          {transfer.iban && ` to ${inFours(transfer.iban)}${transfer.bic && `, BIC ${transfer.bic}`}`}, with
          the reference <span className="font-mono">{inFours(transfer.reference)}</span>.
        </p>
      )}
      <ByCard of={of} onPaid={() => stale(STALE.paying)} />
      {of.closing.length > 0 && <Closing parts={of.closing} currency={currency} link={documentLink} />}
    </section>
  );
}

export function CreditNotePage() {
  const { id } = useParams();
  const one = useQuery(creditNote(Number(id)));
  if (!one.data)
    return one.error ? <Trouble error={one.error} /> : <Waiting words="Fetching the credit note" />;
  const { summary: s } = one.data;
  return (
    <>
      <h1>Credit note {s.number}</h1>
      <p className="mt-1 text-soft">
        Off{" "}
        <Link className="figure-link" to={`/invoices/${s.invoice_id}`}>
          {s.invoice}
        </Link>{" "}
        for {month(s.period_start)}, issued on {dayAndYear(s.issued_at)} ·{" "}
        <Saved base={`${BEGINS}/api/v1/credit-notes/${id}`} files={one.data.files} />
      </p>
      <p className="mt-2 max-w-[620px] whitespace-pre-line">{s.reason}</p>
      <DocumentLines of={one.data} documentLink={documentLink} callsLink={callsLink} useDays={useDays} />
    </>
  );
}

/** What was taken back of invoices; nothing is shown where that is nothing. */
function CreditNotes() {
  const list = useQuery(creditNotes());
  if (!list.data?.length) return null; // what cannot be read is told by the invoices above
  return (
    <>
      <h2 className="mt-8 text-[18px]">Credit notes</h2>
      <Table
        className="mt-2 max-w-[760px]"
        rows={list.data}
        id={(note) => note.id}
        columns={[
          {
            head: "Credit note",
            cell: (note) => (
              <Link className="figure-link" to={`/credit-notes/${note.id}`}>
                {note.number}
              </Link>
            ),
            look: "sm:whitespace-nowrap",
          },
          {
            head: "Off",
            cell: (note) => (
              <Link className="figure-link" to={`/invoices/${note.invoice_id}`}>
                {note.invoice}
              </Link>
            ),
            look: "sm:whitespace-nowrap",
          },
          { head: "Why", cell: (note) => note.reason, look: "text-soft" },
          { head: "Issued", cell: (note) => dayAndYear(note.issued_at), look: "sm:whitespace-nowrap" },
          { head: "Total", cell: (note) => amount(note.total, note.currency), number: true },
        ]}
      />
    </>
  );
}
