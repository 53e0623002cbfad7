import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { organisation, ownCard, STALE } from "../api/queries/portal";
import { WordButton } from "../kit/controls";
import { Line } from "../kit/fields";
import { Ends, Form, Send, useEntry } from "../kit/form";
import { useMe } from "./me";

type Payment = Portal["PaymentIn"];

const HINT = "What your own books know the purchase by. It stands on each invoice.";

/** Whether it is still to be said how a plan is paid; undefined until that is known. */
export function useToSay(charges: boolean): { days: number } | null | undefined {
  const { data } = useQuery({ ...organisation(), enabled: charges });
  if (!charges) return null;
  return data && (data.payment ? null : { days: data.payment_days });
}

/** How a plan is paid that somebody takes, as it is sent. */
export const byTransfer = (order_number: string): Payment => ({ method: "transfer", order_number });

/** How a plan will be paid, and the field for one's order number. */
export function HowPaid({ days, children }: { days: number; children: React.ReactNode }) {
  const me = useMe();
  const cards = useQuery({ ...ownCard(), enabled: me.may.includes("see money") }).data?.taken;
  return (
    <fieldset className="mb-1">
      <legend className="text-[14px]">You pay by transfer, within {days} days of each invoice.</legend>
      {cards && <p className="mb-1 text-[13px] text-soft">To pay by card, give one under Account first.</p>}
      {children}
    </fieldset>
  );
}

export const ORDER_NUMBER = { label: "Your order number, if invoices should carry one", hint: HINT };

/** How one's organisation pays, and changing it for those who see its money. */
export function Paying({ of }: { of: Portal["OrganisationView"] }) {
  const me = useMe();
  const [changing, setChanging] = useState(false);
  const { payment } = of;
  return (
    <section aria-label="How invoices are paid" className="mt-8 max-w-[560px]">
      <h2 className="text-[18px]">How invoices are paid</h2>
      {changing ? (
        <Change of={of} onDone={() => setChanging(false)} />
      ) : (
        <p className="mt-1">
          {payment ? (
            <>
              By {payment.method},{" "}
              {payment.method === "card"
                ? `on the day each is due, ${of.payment_days} days after it.`
                : `within ${of.payment_days} days of each.`}
              {payment.order_number
                ? ` They carry your order number ${payment.order_number}.`
                : " They carry no order number of yours."}
            </>
          ) : (
            "It is asked for with the first plan that can cost something."
          )}{" "}
          {payment && me.may.includes("say how it pays") && (
            <WordButton onClick={() => setChanging(true)}>change the order number</WordButton>
          )}
        </p>
      )}
    </section>
  );
}

function Change({ of, onDone }: { of: Portal["OrganisationView"]; onDone: () => void }) {
  const stale = useStale();
  const entry = useEntry({
    start: { order_number: of.payment?.order_number ?? "" },
    send: ({ order_number }) =>
      api.put("/organisation/payment", { body: { method: of.payment?.method ?? "transfer", order_number } }),
    done: async () => {
      await stale(STALE.organisation);
      onDone();
    },
  });
  return (
    <Form of={entry} className="mt-2">
      <Line
        name="order_number"
        label="Your order number"
        hint={`${HINT} Invoices that are issued keep theirs.`}
        autoFocus
      />
      <Ends onLeave={onDone}>
        <Send>Keep it</Send>
      </Ends>
    </Form>
  );
}
