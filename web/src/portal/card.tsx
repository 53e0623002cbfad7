import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { ownCard, STALE } from "../api/queries/portal";
import { isGoing } from "../kit/attempts";
import { Button, Trouble, Waiting, WordButton } from "../kit/controls";
import { amount, date, month } from "../kit/format";
import { useMe } from "./me";

type Card = Portal["CardView"];

const named = (card: Card) => `${card.brand} ending in ${card.last_four}`;

/** How one's invoices are paid: by which card, or by transfer; and the way to the payment processor's own page, where a
 * card is given. What was given there is kept on coming back. */
export function HowYouPay() {
  const { data } = useQuery(ownCard());
  const me = useMe();
  const stale = useStale();
  const [search, setSearch] = useSearchParams();
  const finish = useMutation({
    mutationFn: () => api.post("/card/finish", {}),
    onSuccess: async () => {
      setSearch({}, { replace: true });
      await stale(STALE.card);
    },
  });
  const remove = useMutation({
    mutationFn: () => api.delete("/card", {}),
    onSuccess: () => stale(STALE.card),
  });
  const back = search.get("card") === "given";
  const begun = useRef(false);
  useEffect(() => {
    if (back && !begun.current) {
      begun.current = true;
      finish.mutate();
    }
  }, [back, finish.mutate]);
  if (!data?.taken) return null;
  const { card } = data;
  const may = me.may.includes("say how it pays");
  return (
    <section aria-label="How you pay" className="mt-6 max-w-[620px]">
      <h2 className="text-[18px]">How you pay</h2>
      {back && finish.isPending && <Waiting words="Asking the payment processor for the card" />}
      <Trouble error={finish.error} />
      {card ? (
        <p className="mt-1">
          Invoices are taken from <b>{named(card)}</b> on the day they are due.{" "}
          {card.over ? (
            <span className="text-(--portal-wrong,#A3392D)">
              It was good until {month(card.good_until)}: give another.
            </span>
          ) : (
            <span className="text-soft">
              It is good until the end of {month(card.good_until)}, and was given by {card.added_by} on{" "}
              {date(card.added_at)}.
            </span>
          )}
        </p>
      ) : (
        <p className="mt-1">
          By transfer, with the reference on each invoice. A card pays by itself, on the day an invoice is
          due.
        </p>
      )}
      {may && (
        <p className="mt-2">
          <GiveCard words={card ? "Use another card" : "Pay by card"} />{" "}
          {card && (
            <WordButton onClick={() => remove.mutate()} disabled={remove.isPending}>
              remove it and pay by transfer
            </WordButton>
          )}
        </p>
      )}
      <Trouble error={remove.error} />
    </section>
  );
}

/** The way to the page at which a card is given. */
export function GiveCard({ words }: { words: string }) {
  const go = useMutation({
    mutationFn: () => api.post("/card/begin", {}),
    onSuccess: ({ address }) => window.location.assign(address),
  });
  return (
    <>
      <Button onClick={() => go.mutate()} disabled={go.isPending || go.isSuccess}>
        {words}…
      </Button>
      <Trouble error={go.error} />
    </>
  );
}

/** What a card pays of an invoice, when, and what was tried; and paying it now. */
export function ByCard({ of, onPaid }: { of: Portal["InvoiceView"]; onPaid: () => Promise<unknown> }) {
  const key = useRef(crypto.randomUUID());
  const pay = useMutation({
    mutationFn: () =>
      api.post("/invoices/{invoice_id}/pay", {
        params: { path: { invoice_id: of.summary.id }, header: { "idempotency-key": key.current } },
      }),
    onSettled: () => {
      key.current = crypto.randomUUID();
      return onPaid();
    },
  });
  const going = of.attempts.some(isGoing);
  const { open, currency } = of.summary;
  return (
    <>
      {of.card && (
        <p className="mt-2">
          {going
            ? `${amount(open, currency)} are being taken from ${of.card}.`
            : of.next_try
              ? `${amount(open, currency)} are taken from ${of.card} on ${date(of.next_try)}.`
              : `${of.card} is not tried by itself.`}{" "}
          {!going && (
            <>
              Pay now, or{" "}
              <Link className="figure-link" to="/account">
                give another card
              </Link>{" "}
              first.
            </>
          )}
        </p>
      )}
      {of.card && !going && (
        <p className="mt-2">
          <Button main onClick={() => pay.mutate()} disabled={pay.isPending}>
            Pay {amount(open, currency)} by card
          </Button>
        </p>
      )}
      <Trouble error={pay.error} />
      <Tried of={of.attempts} />
    </>
  );
}

/** Attempts that are over, in order. */
function Tried({ of }: { of: Portal["AttemptView"][] }) {
  const over = of.filter((each) => ["taken", "failed"].includes(each.state));
  if (over.length === 0) return null;
  return (
    <ul className="mt-2 text-[14px]">
      {over.map((each) => (
        <li key={each.id}>
          {date(each.ended_at ?? each.planned_at)}: {each.card}{" "}
          {each.state === "taken"
            ? `paid ${amount(each.amount, each.currency)}`
            : `could not be charged: ${each.failure}`}
          {each.dispute && `; disputed, ${each.dispute}`}
        </li>
      ))}
    </ul>
  );
}
