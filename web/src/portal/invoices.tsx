import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { BEGINS } from "../api/begins";
import { creditNote, creditNotes, invoice, invoices, lineDays } from "../api/queries/portal";
import { Trouble, Waiting } from "../kit/controls";
import { type Corrected, DocumentLines } from "../kit/document";
import { amount, date, dayAndYear, month } from "../kit/format";

import { Table } from "../kit/table";
import { useMe } from "./me";

export function Invoices() {
  const list = useQuery(invoices());
  const { consumer } = useMe();
  return (
    <>
      <h1>Invoices</h1>
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
            { head: "State", cell: (i) => i.state },
            { head: "Due", cell: (i) => (i.due_on ? date(i.due_on) : "") },
            { head: "Total", cell: (i) => amount(i.total, i.currency), number: true },
          ]}
        />
      )}
      <CreditNotes />
    </>
  );
}

const useDays = (line: number) => useQuery(lineDays(line));
const documentLink = (of: Corrected) =>
  of.kind === "invoice" ? `/invoices/${of.document_id}` : `/credit-notes/${of.document_id}`;
const callsLink = (subscription: number, meter: number, d: { since_us: number; until_us: number }) =>
  `/usage?subscription=${subscription}&meter=${meter}&since_us=${d.since_us}&until_us=${d.until_us}`;

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
        </a>
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
      <DocumentLines of={one.data} documentLink={documentLink} callsLink={callsLink} useDays={useDays} />
    </>
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
        for {month(s.period_start)}, issued on {dayAndYear(s.issued_at)}
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
          },
          {
            head: "Off",
            cell: (note) => (
              <Link className="figure-link" to={`/invoices/${note.invoice_id}`}>
                {note.invoice}
              </Link>
            ),
          },
          { head: "Why", cell: (note) => note.reason, look: "text-soft" },
          { head: "Issued", cell: (note) => dayAndYear(note.issued_at) },
          { head: "Total", cell: (note) => amount(note.total, note.currency), number: true },
        ]}
      />
    </>
  );
}
