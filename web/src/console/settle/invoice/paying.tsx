import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { STALE } from "../../../api/queries/settle";
import { Dialog, Trouble, WordButton } from "../../../kit/controls";
import { Line } from "../../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../../kit/form";
import { amount, dayAndMinute, inFours } from "../../../kit/format";
import { Closing } from "../../../kit/ledger";
import { Aside, Pair } from "../../frame";
import { documentLink } from "../links";
import { CardOf } from "../payments/by-card";

type Invoice = Console["InvoiceView"];
type WriteOff = Invoice["write_offs"][number];

/** What is open of an issued invoice: what closed it, the reminders, and writing the rest off. */
export function PaidOf({ of, finance }: { of: Invoice; finance: boolean }) {
  const [writingOff, setWritingOff] = useState(false);
  const { currency, open, consumer_id } = of.summary;
  const isOpen = Number(open) > 0;
  const waits = of.write_offs.some((w) => w.state === "waiting");
  if (!of.summary.number) return null;
  return (
    <>
      <Aside title={isOpen ? "Open of it" : "Nothing is open"}>
        {isOpen && <p className="font-serif text-[24px] text-brass">{amount(open, currency)}</p>}
        <Closing parts={of.closing} currency={currency} link={documentLink} />
        {of.transfer && <Pair name="Reference">{inFours(of.transfer.reference)}</Pair>}
        <p className="mt-1">
          <Link className="figure-link" to={`/settle/accounts/${consumer_id}`}>
            the account
          </Link>
          {finance && isOpen && !waits && (
            <>
              {" "}
              · <WordButton onClick={() => setWritingOff(true)}>write it off…</WordButton>
            </>
          )}
        </p>
        {of.write_offs.map((w) => (
          <WrittenOff key={w.id} of={w} currency={currency} finance={finance} />
        ))}
      </Aside>
      <CardOf of={of} finance={finance} />
      {of.reminders.length > 0 && (
        <Aside title="Reminded">
          {of.reminders.map((r) => (
            <Pair key={r.after_days} name={dayAndMinute(r.sent_at)}>
              {amount(r.open_amount, currency)}
            </Pair>
          ))}
        </Aside>
      )}
      {writingOff && <WriteOffOf of={of} onClose={() => setWritingOff(false)} />}
    </>
  );
}

/** What somebody wants to write off, or wrote off, and a second person's word. */
function WrittenOff({ of: w, currency, finance }: { of: WriteOff; currency: string; finance: boolean }) {
  const stale = useStale();
  const params = { path: { write_off_id: w.id } };
  const onSuccess = () => stale(STALE.invoices);
  const agree = useMutation({
    mutationFn: () => api.post("/write-offs/{write_off_id}/agree", { params }),
    onSuccess,
  });
  const back = useMutation({
    mutationFn: () => api.delete("/write-offs/{write_off_id}", { params }),
    onSuccess,
  });
  const waits = w.state === "waiting";
  return (
    <div className="mt-1.5">
      {waits ? (
        <span className="text-brass">
          {w.made_by} wants to write {amount(w.amount, currency)} off; a second person has to agree.
        </span>
      ) : (
        <>
          {w.made_by} wrote {amount(w.amount, currency)} off{w.agreed_by && `, ${w.agreed_by} agreed`}.
        </>
      )}
      <div className="text-[13px] whitespace-pre-line text-soft">{w.reason}</div>
      {waits && finance && (
        <>
          {!w.own && (
            <>
              <WordButton onClick={() => agree.mutate()}>agree</WordButton> ·{" "}
            </>
          )}
          <WordButton onClick={() => back.mutate()}>write nothing off</WordButton>
        </>
      )}
      <Trouble error={agree.error ?? back.error} />
    </div>
  );
}

function WriteOffOf({ of, onClose }: { of: Invoice; onClose: () => void }) {
  const stale = useStale();
  const [key] = useState(() => crypto.randomUUID());
  const entry = useEntry({
    start: { reason: "" },
    send: (body) =>
      api.post("/invoices/{invoice_id}/write-off", {
        params: { path: { invoice_id: of.summary.id }, header: { "idempotency-key": key } },
        body,
      }),
    done: async () => {
      await stale(STALE.invoices);
      onClose();
    },
  });
  const open = amount(of.summary.open, of.summary.currency);
  return (
    <Dialog open onClose={onClose} title={`Write off what is open of ${of.summary.number}`}>
      <p className="mb-3">
        {open} of {of.summary.consumer} will not be paid: they become a loss, and the invoice is written off.
        Where the house says so, a second person has to agree first.
      </p>
      <Form of={entry}>
        <Line name="reason" label="Why, for the record" area required autoFocus />
        <Ends onLeave={onClose}>
          <Send>Write {open} off</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
