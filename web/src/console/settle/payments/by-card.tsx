import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { STALE } from "../../../api/queries/settle";
import { isGoing } from "../../../kit/attempts";
import { Trouble, WordButton } from "../../../kit/controls";
import { amount, date, dayAndMinute } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import { Aside, Pair } from "../../frame";
import { useList } from "../../list";

type Attempt = Console["AttemptView"];

/** Attempts to take money from cards: what each came to, why one failed, and what its owner disputes. */
export function ByCard() {
  const list = useList("/payment-attempts", (query) => api.get("/payment-attempts", { params: { query } }), {
    every: 10_000,
  });
  return (
    <Listing
      list={list}
      id={(a) => a.id}
      words="Consumer, invoice or state"
      reading="Reading the attempts"
      empty="No card was charged yet. One is on the day an invoice is due whose consumer has given a card."
      columns={[
        { head: "When", cell: (a) => dayAndMinute(a.planned_at), look: "whitespace-nowrap", width: "w-32" },
        {
          head: "Invoice",
          width: "w-36",
          cell: (a) => (
            <Link className="figure-link whitespace-nowrap" to={`/settle/invoices/${a.invoice_id}`}>
              {a.number}
            </Link>
          ),
        },
        {
          head: "Consumer",
          cell: (a) => (
            <>
              <Link className="figure-link" to={`/settle/accounts/${a.consumer_id}`}>
                {a.consumer}
              </Link>
              <div className="text-[13px] text-soft">{a.card}</div>
            </>
          ),
        },
        { head: "What became of it", width: "w-[30%]", cell: (a) => <Became of={a} /> },
        {
          head: "Amount",
          sort: "amount",
          number: true,
          look: "whitespace-nowrap text-brass",
          cell: (a) => amount(a.amount, a.currency),
        },
      ]}
    />
  );
}

const GOING: Record<string, string> = { planned: "about to be tried", tried: "asked for, not answered yet" };

function Became({ of: a }: { of: Attempt }) {
  return (
    <>
      {a.failure ? (
        <span className="text-madder">
          {a.state}: {a.failure}
        </span>
      ) : (
        (GOING[a.state] ?? a.state)
      )}
      {a.dispute && (
        <div className={`text-[13px] ${a.dispute === "won" ? "text-soft" : "text-madder"}`}>
          disputed, {a.dispute}: {a.dispute_reason}
          {!a.dispute_booked && " Nothing was booked: part of it was paid out. Look at the account."}
        </div>
      )}
      {Number(a.went_back) > 0 && (
        <div className="text-[13px] text-soft">{amount(a.went_back, a.currency)} went back to the card</div>
      )}
      {a.planned_by && a.planned_by !== "Calm Tariff" && (
        <div className="text-[13px] text-soft">by {a.planned_by}</div>
      )}
    </>
  );
}

/** The card that pays what is open of an invoice, what was tried, and trying it now. */
export function CardOf({ of, finance }: { of: Console["InvoiceView"]; finance: boolean }) {
  const stale = useStale();
  const [key, setKey] = useState(() => crypto.randomUUID());
  const { currency, open, id } = of.summary;
  const take = useMutation({
    mutationFn: () =>
      api.post("/invoices/{invoice_id}/payment-attempts", {
        params: { path: { invoice_id: id }, header: { "idempotency-key": key } },
      }),
    onSettled: () => {
      setKey(crypto.randomUUID());
      return stale(STALE.invoices);
    },
  });
  const going = of.attempts.some(isGoing);
  if (!of.card && of.attempts.length === 0) return null;
  return (
    <Aside title="By card">
      {of.card && (
        <p className="text-soft">
          {of.card}
          {of.next_try ? `, tried next on ${date(of.next_try)}` : ", not tried by itself"}
          {finance && !going && (
            <>
              {" "}
              ·{" "}
              <WordButton onClick={() => take.mutate()} disabled={take.isPending}>
                take {amount(open, currency)} now
              </WordButton>
            </>
          )}
        </p>
      )}
      <Trouble error={take.error} />
      {of.attempts.map((a) => (
        <Pair key={a.id} name={dayAndMinute(a.ended_at ?? a.planned_at)}>
          <span className={a.failure || (a.dispute && a.dispute !== "won") ? "text-madder" : ""}>
            {a.dispute ? `disputed, ${a.dispute}` : a.failure || (GOING[a.state] ?? a.state)}
          </span>
        </Pair>
      ))}
    </Aside>
  );
}
