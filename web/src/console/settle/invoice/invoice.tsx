import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import type { Console } from "../../../api/console";
import { me } from "../../../api/queries/house";
import { invoice as ofInvoice } from "../../../api/queries/settle";
import { Trouble, Waiting } from "../../../kit/controls";
import { DocumentLines, Saved } from "../../../kit/document";
import { amount, date, dayAndMinute, month } from "../../../kit/format";
import { Aside, Page, Pair } from "../../frame";
import { useOpened } from "../../lately";
import { isOne } from "../../roles";
import { callsLink, documentLink, revisionLink, useDays } from "../links";
import { Adjustments } from "./adjustments";
import { Crediting } from "./crediting";
import { PaidOf } from "./paying";

type Invoice = Console["InvoiceView"];

export function InvoicePage() {
  const { id } = useParams();
  const one = useQuery(ofInvoice(Number(id)));
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  const invoice = one.data;
  const called =
    invoice &&
    (invoice.summary.number
      ? `Invoice ${invoice.summary.number}`
      : `${invoice.summary.state === "draft" ? "Draft" : "Nothing due"} for ${invoice.summary.consumer}, ${month(invoice.summary.period_start)}`);
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
      margin={<Margin invoice={invoice} finance={finance} />}
    >
      <DocumentLines
        of={invoice}
        revisionLink={revisionLink}
        documentLink={documentLink}
        callsLink={callsLink}
        useDays={useDays}
      />
      {(s.state === "draft" || invoice.adjustments.length > 0) && (
        <Adjustments of={invoice} finance={finance} />
      )}
    </Page>
  );
}

function Margin({ invoice, finance }: { invoice: Invoice; finance: boolean }) {
  const s = invoice.summary;
  return (
    <>
      <Aside title={s.state === "draft" ? "A draft" : `Is ${s.state}`}>
        <p className="font-serif text-[24px] text-brass">{amount(invoice.total, s.currency)}</p>
        <Pair name="Computed">{dayAndMinute(invoice.created_at)}</Pair>
        {invoice.issued_at && <Pair name="Issued">{dayAndMinute(invoice.issued_at)}</Pair>}
        {s.due_on && <Pair name="Due">{date(s.due_on)}</Pair>}
        {invoice.paid && <Pair name="To be paid">{invoice.paid}</Pair>}
        {s.number && (
          <p className="mt-1">
            <Saved base={`/api/v1/invoices/${s.id}`} files={invoice.files} />
          </p>
        )}
      </Aside>
      <PaidOf of={invoice} finance={finance} />
      <Crediting of={invoice} finance={finance} />
      <Aside title="Compute it again">
        <p className="text-soft">
          The evidence file holds the usage and the prices.{" "}
          <code className="font-mono text-[12px] text-ink">./calm rate FILE</code> computes the same lines
          from it, offline.
        </p>
        <a className="figure-link" href={`/api/v1/invoices/${s.id}/evidence`} download>
          Save the evidence file
        </a>
        {s.number && (
          <>
            {" "}
            ·{" "}
            <a className="figure-link" href={`/api/v1/invoices/${s.id}/lines.csv`} download>
              its lines
            </a>
          </>
        )}
        {invoice.late_of.map((late) => (
          <p key={late.id} className="mt-1">
            <a className="figure-link" href={`/api/v1/invoices/${s.id}/late/${late.id}/evidence`} download>
              Save that of what is late for {month(late.period_start)}
            </a>
            <span className="text-soft">
              , for <code className="font-mono text-[12px] text-ink">./calm late FILE</code>
            </span>
          </p>
        ))}
      </Aside>
      <Aside title="How to read it">
        <p className="text-soft">
          Each amount opens: to its tier slices, then to the days, then to the calls. A line is rounded once;
          its slices are exact.
        </p>
      </Aside>
    </>
  );
}
