import { useState } from "react";
import { Link } from "react-router";
import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { STALE } from "../api/queries/portal";
import { Button, Dialog } from "../kit/controls";
import { Choice, Line, Tick } from "../kit/fields";
import { Ends, Form, Send, useEntry } from "../kit/form";
import { count, dayAndYear } from "../kit/format";
import { Prose } from "../kit/prose";
import { byTransfer, HowPaid, ORDER_NUMBER, useToSay } from "./paying";

type Product = Portal["Storefront"];

type Props = {
  product: Product;
  offer: Product["offers"][number];
  own: Portal["ApplicationView"][];
  /** What the estimate above is for: so much is expected, unless somebody says otherwise. */
  meters: Portal["MeterAsked"][];
  onClose: () => void;
};

/** Chosen where the application is yet to be registered. */
const NEW = "new";

/** A request: for which application, what for, and that the terms of use are accepted. */
export function Ask({ product, offer, own, meters: known, onClose }: Props) {
  // As they are when it opens: a field that came later would have no value to show.
  const [meters] = useState(known);
  const stale = useStale();
  const toSay = useToSay(offer.charges);
  const entry = useEntry({
    start: {
      application: String(own[0]?.id ?? NEW),
      name: "",
      purpose: "",
      terms_accepted: false,
      payment: { order_number: "" },
      expected: Object.fromEntries(meters.map((m) => [m.key, count(Math.round(Number(m.units)))])) as Record<
        string,
        string
      >,
    },
    send: async ({ application, name, expected, payment, ...typed }, form) => {
      const id =
        application === NEW
          ? (
              await api.post("/applications", {
                body: { name, purpose: typed.purpose, environment: "live", contact: "" },
              })
            ).id
          : Number(application);
      form.setValue("application", String(id)); // should asking be refused, it is there all the same
      await stale(STALE.application);
      const volume = Object.entries(expected)
        .map(([key, units]) => [key, units.replace(/\D/g, "")] as const)
        .filter(([, units]) => units);
      return api.post("/requests", {
        body: {
          application_id: id,
          plan_id: offer.plan_id,
          ...typed,
          expected: Object.fromEntries(volume),
          payment: toSay ? byTransfer(payment.order_number) : null,
        },
      });
    },
    done: () => stale(STALE.request),
  });
  const { application } = entry.form.watch();
  const sandbox = own.find((a) => String(a.id) === application)?.environment === "sandbox";
  const atOnce = sandbox ? offer.sandbox_at_once : offer.at_once;
  const asked = entry.answer;
  if (asked)
    return (
      <Dialog
        open
        onClose={onClose}
        title={asked.state === "granted" ? "You are in" : "Your request is on the desk"}
      >
        <p>
          {asked.application} {asked.state === "granted" ? "may now call" : "has asked for"} {product.name} ·{" "}
          {offer.name}.
          {asked.state === "granted"
            ? " Make a key, and make the first call."
            : ` ${asked.way} ${asked.next} You are told by mail.`}
        </p>
        <p className="mt-4">
          <Link
            className="figure-link"
            to={asked.state === "granted" ? `/applications/${application}` : `/requests/${asked.id}`}
          >
            {asked.state === "granted" ? `Open ${asked.application}` : "See where it stands"}
          </Link>
        </p>
      </Dialog>
    );
  const title = `${product.name} · ${offer.name}`;
  if (offer.trial_had && offer.nothing_else)
    return (
      <Dialog open onClose={onClose} title={title}>
        <p>
          Your organisation has had its trial of {product.name}, and {offer.name} is nothing else. Choose
          another plan.
        </p>
        <div className="mt-4 flex justify-end">
          <Button onClick={onClose}>Not now</Button>
        </div>
      </Dialog>
    );
  return (
    <Dialog open onClose={onClose} title={title}>
      <Form of={entry}>
        {own.length > 0 && (
          <Choice
            name="application"
            label="For the application"
            autoFocus
            choices={[...own.map((a) => [String(a.id), a.name] as const), [NEW, "a new one"] as const]}
          />
        )}
        {application === NEW && (
          <Line name="name" label="Name of the application" required autoFocus={own.length === 0} />
        )}
        <Line
          name="purpose"
          label="What is it for?"
          area
          required
          hint="A sentence helps the reviewer decide."
        />
        {meters.length > 0 && (
          <fieldset className="mb-1">
            <legend className="text-[13px] text-soft">About how much, in a month?</legend>
            <div className="flex flex-wrap gap-x-6">
              {meters.map((m) => (
                <div key={m.key} className="w-40">
                  <Line name={`expected.${m.key}`} label={m.name} inputMode="numeric" />
                </div>
              ))}
            </div>
          </fieldset>
        )}
        {offer.trial_had && (
          <p className="mb-3 border-l-[3px] border-(--portal-accent) pl-3 text-[14px]">
            Your organisation has had its trial of {product.name}: this begins without one.
          </p>
        )}
        {toSay && (
          <HowPaid days={toSay.days}>
            <Line name="payment.order_number" {...ORDER_NUMBER} />
          </HowPaid>
        )}
        {product.terms_html && (
          <div className="mb-3 max-h-40 overflow-y-auto border-l-[3px] border-line pl-3 text-[14px]">
            <Prose html={product.terms_html} />
          </div>
        )}
        <Tick name="terms_accepted" className="mb-3">
          I accept the terms of use of {dayAndYear(product.terms_dated)}
        </Tick>
        <Ends leave="Not now" onLeave={onClose}>
          <Send disabled={toSay === undefined}>{atOnce ? "Subscribe" : "Ask for access"}</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
