import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { creditNote } from "../../../api/queries/settle";
import { Trouble, Waiting } from "../../../kit/controls";
import { DocumentLines, Saved } from "../../../kit/document";
import { amount, dayAndMinute, month } from "../../../kit/format";
import { Aside, Page, Pair } from "../../frame";
import { useOpened } from "../../lately";
import { callsLink, documentLink, revisionLink, useDays } from "../links";

export function CreditNotePage() {
  const { id } = useParams();
  const one = useQuery(creditNote(Number(id)));
  const called = one.data && `Credit note ${one.data.summary.number}`;
  useOpened(called);
  if (!one.data)
    return (
      <Page title="Credit note">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the credit note" />}
      </Page>
    );
  const note = one.data;
  const s = note.summary;
  return (
    <Page
      title={called ?? "Credit note"}
      sub={
        <>
          <Link className="figure-link" to={`/admit/consumers/${s.consumer_id}`}>
            {s.consumer}
          </Link>
          , off{" "}
          <Link className="figure-link" to={`/settle/invoices/${s.invoice_id}`}>
            {s.invoice}
          </Link>{" "}
          for {month(s.period_start)}
        </>
      }
      margin={
        <>
          <Aside title="Taken back">
            <p className="font-serif text-[24px] text-brass">{amount(note.total, s.currency)}</p>
            <Pair name="Issued">{dayAndMinute(s.issued_at)}</Pair>
            <p className="mt-1">
              <Saved base={`/api/v1/credit-notes/${s.id}`} files={note.files} />
            </p>
          </Aside>
          <Aside title="Why">
            <p className="whitespace-pre-line">{s.reason}</p>
          </Aside>
          <Aside title="What follows">
            <p className="text-soft">
              {note.chargeable_again
                ? "What it takes back counts as not charged: the next invoice has late lines for what recorded usage comes to."
                : "What it takes back is not charged again, whatever usage is recorded."}
            </p>
          </Aside>
        </>
      }
    >
      <DocumentLines
        of={note}
        revisionLink={revisionLink}
        documentLink={documentLink}
        callsLink={callsLink}
        useDays={useDays}
      />
    </Page>
  );
}
