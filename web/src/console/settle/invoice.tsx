import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { lineDays, invoice as ofInvoice } from "../../api/queries/settle";
import { Trouble, Waiting } from "../../kit/controls";
import { amount, date, dayAndMinute, month } from "../../kit/format";
import { InvoiceLines } from "../../kit/invoice";
import { Aside, Page, Pair } from "../frame";
import { useOpened } from "../lately";

const useDays = (line: number) => useQuery(lineDays(line));

export function InvoicePage() {
  const { id } = useParams();
  const one = useQuery(ofInvoice(Number(id)));
  const invoice = one.data;
  const called =
    invoice &&
    (invoice.summary.number
      ? `Invoice ${invoice.summary.number}`
      : `Draft for ${invoice.summary.consumer}, ${month(invoice.summary.period_start)}`);
  useOpened(called);
  if (!invoice)
    return (
      <Page title="Invoice">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the invoice" />}
      </Page>
    );
  const s = invoice.summary;
  return (
    <Page
      title={called ?? "Invoice"}
      sub={
        <>
          <Link className="figure-link" to={`/admit/consumers/${s.consumer_id}`}>
            {s.consumer}
          </Link>{" "}
          for{" "}
          <Link className="figure-link" to={`/settle/periods/${s.period_start}`}>
            {month(s.period_start)}
          </Link>{" "}
          · {s.state}
        </>
      }
      margin={
        <>
          <Aside title={s.state === "draft" ? "A draft" : `Is ${s.state}`}>
            <p className="font-serif text-[24px] text-brass">{amount(invoice.total, s.currency)}</p>
            <Pair name="Computed">{dayAndMinute(invoice.created_at)}</Pair>
            {invoice.issued_at && <Pair name="Issued">{dayAndMinute(invoice.issued_at)}</Pair>}
            {s.due_on && <Pair name="Due">{date(s.due_on)}</Pair>}
            {invoice.paid && <Pair name="To be paid">{invoice.paid}</Pair>}
          </Aside>
          <Aside title="Compute it again">
            <p className="text-soft">
              The evidence file holds the usage and the prices.{" "}
              <code className="font-mono text-[12px] text-ink">./calm rate FILE</code> computes the same lines
              from it, offline.
            </p>
            <a className="figure-link" href={`/api/v1/invoices/${id}/evidence`} download>
              Save the evidence file
            </a>
          </Aside>
          <Aside title="How to read it">
            <p className="text-soft">
              Each amount opens: to its tier slices, then to the days, then to the calls. A line is rounded
              once; its slices are exact.
            </p>
          </Aside>
        </>
      }
    >
      <InvoiceLines
        invoice={invoice}
        revisionLink={(line) => `/compose/revisions/${line.revision_id}`}
        callsLink={(line, d) =>
          `/observe/traffic?subscription=${line.subscription_id}&meter=${line.meter_id}&since_us=${d.since_us}&until_us=${d.until_us}`
        }
        useDays={useDays}
      />
    </Page>
  );
}
