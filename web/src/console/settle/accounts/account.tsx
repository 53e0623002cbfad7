import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { me } from "../../../api/queries/house";
import { account, STALE } from "../../../api/queries/settle";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../../kit/controls";
import { Choice, Line } from "../../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../../kit/form";
import { amount, date, day, dayAndMinute, listed, month, today } from "../../../kit/format";
import { type LedgerEntry, ledgerColumns } from "../../../kit/ledger";
import { Listing } from "../../../kit/list";
import { Aside, Page, Pair } from "../../frame";
import { useOpened } from "../../lately";
import { useList } from "../../list";
import { isOne } from "../../roles";
import { documentLink } from "../links";

type Account = Console["AccountView"];
type Booking = "payment" | "refund" | "card refund";

/** One account: its entries with where each went, what is open, and booking what came in. */
export function AccountPage() {
  const { id = "" } = useParams();
  const one = useQuery(account(Number(id)));
  useOpened(one.data && `Account of ${one.data.consumer}`);
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  const [booking, setBooking] = useState<Booking | null>(null);
  const [returning, setReturning] = useState<LedgerEntry | null>(null);
  const of = one.data;
  const list = useList(
    "/accounts/{consumer_id}/entries",
    (query) =>
      api.get("/accounts/{consumer_id}/entries", { params: { path: { consumer_id: Number(id) }, query } }),
    { fill: { consumer_id: id } },
  );
  if (!of)
    return (
      <Page title="Account">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the account" />}
      </Page>
    );
  return (
    <Page
      title={`Account of ${of.consumer}`}
      sub={
        <>
          Entry by entry, the newest first ·{" "}
          <a className="figure-link" href={`/api/v1/accounts/${of.consumer_id}/statement.pdf`} download>
            this year’s statement as PDF
          </a>{" "}
          ·{" "}
          <Link className="figure-link" to={`/admit/consumers/${of.consumer_id}`}>
            the consumer
          </Link>
        </>
      }
      margin={<Margin of={of} />}
    >
      <Listing
        list={list}
        id={(e) => e.id}
        reading="Reading the entries"
        empty="No entry yet: an issued invoice is the first."
        actions={
          finance && (
            <>
              {Number(of.refundable) > 0 && (
                <Button onClick={() => setBooking("card refund")}>Pay credit out to the card…</Button>
              )}
              {Number(of.credit) > 0 && <Button onClick={() => setBooking("refund")}>Book a refund…</Button>}
              <Button main onClick={() => setBooking("payment")}>
                Book a payment…
              </Button>
            </>
          )
        }
        columns={ledgerColumns(
          of.currency,
          documentLink,
          (e) =>
            finance &&
            e.kind === "payment" &&
            !e.went_back && (
              <WordButton onClick={() => setReturning(e)}>
                it went back<span className="sr-only">, the payment of {date(e.on)}</span>…
              </WordButton>
            ),
        )}
      />
      {booking === "card refund" && <ToCard of={of} onClose={() => setBooking(null)} />}
      {booking && booking !== "card refund" && (
        <Book of={of} what={booking} onClose={() => setBooking(null)} />
      )}
      {returning && <Return of={returning} account={of} onClose={() => setReturning(null)} />}
    </Page>
  );
}

function Margin({ of }: { of: Account }) {
  const owes = Number(of.balance);
  return (
    <>
      <Aside title={owes < 0 ? "We owe it" : owes > 0 ? "It owes" : "Nothing is owed"}>
        <p className="font-serif text-[24px] text-brass">
          {amount(owes < 0 ? of.balance.replace("-", "") : of.balance, of.currency)}
        </p>
        {Number(of.credit) > 0 && (
          <p className="text-soft">
            {amount(of.credit, of.currency)} are credit on account: the next invoice uses them at once.
          </p>
        )}
      </Aside>
      {of.card && (
        <Aside title="Pays by card">
          <p className={of.card.over ? "text-madder" : ""}>
            {of.card.brand} ending in {of.card.last_four}, good until {month(of.card.good_until)}
          </p>
          <p className="text-[13px] text-soft">
            given by {of.card.added_by} on {date(of.card.added_at)}
          </p>
        </Aside>
      )}
      {of.invoices.length > 0 && (
        <Aside title="Open">
          {of.invoices.map((i) => (
            <div key={i.id} className="mb-1.5">
              <Pair
                name={
                  <Link className="figure-link" to={`/settle/invoices/${i.id}`}>
                    {i.number}
                  </Link>
                }
              >
                {amount(i.open, of.currency)}
              </Pair>
              <p className={`text-[13px] ${i.state === "overdue" ? "text-madder" : "text-soft"}`}>
                {month(i.period_start)}, due {date(i.due_on)}
                {i.reminders.length > 0 && `, reminded on ${listed(i.reminders.map((r) => day(r.sent_at)))}`}
              </p>
            </div>
          ))}
        </Aside>
      )}
      {of.pauses.length > 0 && (
        <Aside title="Calls paused">
          {of.pauses.map((p) => (
            <p key={p.start_at} className={p.end_at ? "text-soft" : "text-madder"}>
              From {dayAndMinute(p.start_at)} {p.end_at ? `to ${dayAndMinute(p.end_at)}` : "until it is paid"}
              , for {p.invoice}
            </p>
          ))}
        </Aside>
      )}
      <Aside title="How it is worked out">
        <p className="text-soft">
          A payment goes to the invoice that it names, and what is left of it to what is due first. What is
          still left is credit on account. Nothing is ever changed: what was wrong is another entry.
        </p>
      </Aside>
    </>
  );
}

/** Credit goes back to the card that it came from, over the payment processor. */
function ToCard({ of, onClose }: { of: Account; onClose: () => void }) {
  const stale = useStale();
  const [key] = useState(() => crypto.randomUUID());
  const entry = useEntry({
    start: { amount: of.refundable.replace(/(\.\d\d)0+$/, "$1") },
    send: (body) =>
      api.post("/accounts/{consumer_id}/card-refunds", {
        params: { path: { consumer_id: of.consumer_id }, header: { "idempotency-key": key } },
        body,
      }),
    done: async () => {
      await stale(STALE.invoices);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Pay credit of ${of.consumer} out to its card`}>
      <p className="mb-3">
        {amount(of.credit, of.currency)} are on account, and at most {amount(of.refundable, of.currency)} can
        go back to the card they came from. The payment processor pays it out; should it not be able to, it is
        credit again.
      </p>
      <Form of={entry}>
        <Line name="amount" label={`Amount, in ${of.currency}`} inputMode="decimal" required autoFocus />
        <Ends onLeave={onClose}>
          <Send>Pay it out</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function Book({ of, what, onClose }: { of: Account; what: "payment" | "refund"; onClose: () => void }) {
  const stale = useStale();
  const [key] = useState(() => crypto.randomUUID());
  const refund = what === "refund";
  const [first] = of.invoices;
  const entry = useEntry({
    start: {
      amount: refund ? of.credit.replace(/(\.\d\d)0+$/, "$1") : "",
      value_on: today(),
      reference: "",
      invoice_id: first && !refund ? String(first.id) : "",
    },
    send: ({ invoice_id, ...body }) => {
      const params = { path: { consumer_id: of.consumer_id }, header: { "idempotency-key": key } };
      return refund
        ? api.post("/accounts/{consumer_id}/refunds", { params, body })
        : api.post("/accounts/{consumer_id}/payments", {
            params,
            body: { ...body, invoice_id: invoice_id ? Number(invoice_id) : null },
          });
    },
    done: async () => {
      await stale(STALE.invoices);
      onClose();
    },
  });
  const choices: [string, string][] = [
    ...of.invoices.map((i): [string, string] => [
      String(i.id),
      `${i.number}, ${amount(i.open, of.currency)} open, due ${date(i.due_on)}`,
    ]),
    ["", "none: what is due first"],
  ];
  return (
    <Dialog
      open
      onClose={onClose}
      title={refund ? `Pay credit of ${of.consumer} out` : `Book a payment of ${of.consumer}`}
    >
      <Form of={entry}>
        <Line name="amount" label={`Amount, in ${of.currency}`} inputMode="decimal" required autoFocus />
        <Line name="value_on" label="Day, by the bank's books" type="date" required />
        {!refund && <Choice name="invoice_id" label="For invoice" choices={choices} />}
        <Line
          name="reference"
          label="What the bank's entry says"
          hint="A reference or the words that came with it, up to 140 characters."
        />
        <p className="my-2 text-soft">
          {refund
            ? `${amount(of.credit, of.currency)} are on account. Those who see its money are told by mail.`
            : "Those who see its money get a receipt by mail, with where it went."}
        </p>
        <Ends onLeave={onClose}>
          <Send>{refund ? "Book the refund" : "Book the payment"}</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function Return({ of: e, account: of, onClose }: { of: LedgerEntry; account: Account; onClose: () => void }) {
  const stale = useStale();
  const [key] = useState(() => crypto.randomUUID());
  const entry = useEntry({
    start: { reason: "" },
    send: (body) =>
      api.post("/account-entries/{entry_id}/return", {
        params: { path: { entry_id: e.id }, header: { "idempotency-key": key } },
        body,
      }),
    done: async () => {
      await stale(STALE.invoices);
      onClose();
    },
  });
  const closed = e.parts.filter((part) => part.document_id !== null);
  return (
    <Dialog open onClose={onClose} title={`The payment of ${date(e.on)} went back`}>
      <p className="mb-3">
        {amount(e.amount.replace("-", ""), of.currency)} of {of.consumer} did not stay, or were booked by
        mistake.{" "}
        {closed.length > 0 &&
          `${closed.map((part) => part.number).join(" and ")} ${closed.length === 1 ? "is" : "are"} open again. `}
        One entry is added; none is taken away.
      </p>
      <Form of={entry}>
        <Line name="reason" label="Why, as its consumer reads it" area required autoFocus />
        <Ends onLeave={onClose}>
          <Send>Book that it went back</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
