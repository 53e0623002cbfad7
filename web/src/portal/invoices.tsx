import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { BEGINS } from "../api/begins";
import { invoice, invoices, lineDays } from "../api/queries/portal";
import { Trouble, Waiting } from "../kit/controls";
import { amount, date, month } from "../kit/format";
import { InvoiceLines } from "../kit/invoice";
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
    </>
  );
}

const useDays = (line: number) => useQuery(lineDays(line));

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
      <InvoiceLines
        invoice={one.data}
        callsLink={(line, d) =>
          `/usage?subscription=${line.subscription_id}&meter=${line.meter_id}&since_us=${d.since_us}&until_us=${d.until_us}`
        }
        useDays={useDays}
      />
    </>
  );
}
