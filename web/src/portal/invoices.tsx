import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { invoice, invoices, lineDays } from "../api/queries/portal";
import { Trouble, Waiting } from "../kit/controls";
import { amount, date, month } from "../kit/format";
import { InvoiceLines } from "../kit/invoice";

export function Invoices() {
  const list = useQuery(invoices());
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
        <table className="plain-table mt-3 max-w-[760px]">
          <thead>
            <tr>
              <th>Invoice</th>
              <th>For</th>
              <th>State</th>
              <th>Due</th>
              <th className="number">Total</th>
            </tr>
          </thead>
          <tbody>
            {list.data.map((i) => (
              <tr key={i.id}>
                <td>
                  <Link className="figure-link" to={`/invoices/${i.id}`}>
                    {i.number}
                  </Link>
                </td>
                <td>{month(i.period_start)}</td>
                <td>{i.state}</td>
                <td>{i.due_on ? date(i.due_on) : ""}</td>
                <td className="number">{amount(i.total, i.currency)}</td>
              </tr>
            ))}
          </tbody>
        </table>
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
        {s.due_on && `, due ${date(s.due_on)}`} ·{" "}
        <a className="figure-link" href={`/portal/api/v1/invoices/${id}/evidence`} download>
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
