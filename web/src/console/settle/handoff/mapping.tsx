import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { knownOutside, mappedPlans, STALE } from "../../../api/queries/settle";
import { Dialog, Trouble, WordButton } from "../../../kit/controls";
import { Line } from "../../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../../kit/form";
import { count } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import { Table } from "../../../kit/table";
import { Aside } from "../../frame";
import { useList } from "../../list";
import { Whose } from "../whose";
import { HandoffPage } from "./handoff";

type Consumer = Console["MappedConsumer"];
type Plan = Console["MappedPlan"];
type Subscription = Console["MappedSubscription"];
type KnownOutside = Console["KnownOutside"];

const edition = (of: { edition: number }) => ({ "if-match": `"${of.edition}"` });
const inStock = (of: { waiting: number; refused: number }) => (
  <>
    {of.waiting > 0 && count(of.waiting)}
    {of.refused > 0 && <div className="text-madder">{count(of.refused)} refused</div>}
  </>
);
const missing = <span className="text-brass">not mapped, and waits</span>;

/** What there is outside, as far as anybody could be asked. */
function useKnown() {
  const read = useQuery(knownOutside()).data;
  return read?.asked ? read : undefined;
}

/** Who each consumer is outside, and what each plan costs there: what is not mapped first. */
export function HandoffMapping() {
  const list = useList("/handoff/consumers", (query) => api.get("/handoff/consumers", { params: { query } }));
  const [mapping, setMapping] = useState<Consumer | null>(null);
  return (
    <HandoffPage
      shown="mapping"
      about={
        <Aside title="Who is who">
          <p className="text-soft">
            Each consumer is one customer outside. What is not mapped waits here, and is handed on as soon as
            it is. A change holds for what is told from then on; a difference to what was accepted goes where
            that went.
          </p>
        </Aside>
      }
    >
      {(finance) => (
        <>
          <Listing
            list={list}
            id={(c) => c.consumer_id}
            words="Consumer or customer"
            reading="Reading who is who"
            empty="No consumer has a subscription that is billed outside."
            columns={[
              {
                head: "Consumer",
                sort: "consumer",
                cell: (c) => (
                  <Link className="figure-link" to={`/admit/consumers/${c.consumer_id}`}>
                    {c.consumer}
                  </Link>
                ),
              },
              { head: "Customer outside", sort: "unmapped", cell: (c) => <Customer of={c} /> },
              { head: "Subscriptions", number: true, cell: (c) => count(c.subscriptions) },
              { head: "Hours that wait", number: true, sort: "waiting", cell: inStock },
              finance && {
                head: "Map it",
                quiet: true,
                cell: (c) => (
                  <WordButton onClick={() => setMapping(c)}>
                    map<span className="sr-only"> {c.consumer}</span>…
                  </WordButton>
                ),
              },
            ]}
          />
          {mapping && <MapConsumer of={mapping} onClose={() => setMapping(null)} />}
          <Plans finance={finance} />
        </>
      )}
    </HandoffPage>
  );
}

function Customer({ of: c }: { of: Consumer }) {
  const known = useKnown()?.customers;
  if (!c.customer) return missing;
  return (
    <>
      <Known id={c.customer} of={known} />
      {c.standing === "unpaid" && (
        <div className="text-[13px] text-madder">has not paid{c.unpaid_for && ` ${c.unpaid_for}`}</div>
      )}
      {c.standing === "ended" && <div className="text-[13px] text-soft">has ended there</div>}
    </>
  );
}

/** Which price each plan has outside, those without one first. */
function Plans({ finance }: { finance: boolean }) {
  const list = useQuery(mappedPlans());
  const [mapping, setMapping] = useState<Plan | null>(null);
  const known = useKnown()?.prices;
  if (!list.data?.rows.length) return <Trouble error={list.error} />;
  return (
    <section aria-label="Plans" className="mt-8">
      <h2 className="font-serif text-[18px]">Plans and their prices</h2>
      <Table
        className="mt-2"
        rows={list.data.rows}
        id={(p) => p.plan_id}
        columns={[
          { head: "Plan", cell: (p) => `${p.product} · ${p.plan}` },
          { head: "Price outside", cell: (p) => (p.price ? <Known id={p.price} of={known} /> : missing) },
          {
            head: "Subscriptions",
            number: true,
            cell: (p) => (
              <>
                {count(p.subscriptions)}
                {p.own_prices > 0 && (
                  <div className="text-[13px] text-soft">{count(p.own_prices)} with their own price</div>
                )}
              </>
            ),
          },
          { head: "Hours that wait", number: true, cell: inStock },
          finance && {
            head: "Map it",
            quiet: true,
            cell: (p) => (
              <WordButton onClick={() => setMapping(p)}>
                map
                <span className="sr-only">
                  {" "}
                  {p.product} · {p.plan}
                </span>
                …
              </WordButton>
            ),
          },
        ]}
      />
      {mapping && <MapPlan of={mapping} onClose={() => setMapping(null)} />}
    </section>
  );
}

/** A customer or a price by what it is known by there, with its name; or that it is not known there. */
function Known({ id, of }: { id: string; of?: KnownOutside[] }) {
  const found = of?.find((each) => each.id === id);
  return (
    <>
      {id}
      {found && <span className="text-soft"> {found.name}</span>}
      {of && !found && <div className="text-[13px] text-madder">they do not know it</div>}
    </>
  );
}

const AboutPrices = () => (
  <Aside title="Which price">
    <p className="text-soft">
      An hour goes to the price of the plan that the subscription was on at its end, or to the subscription's
      own, where it has one.
    </p>
  </Aside>
);

/** Subscriptions, some with a price of their own. */
export function HandoffSubscriptions() {
  const list = useList("/handoff/subscriptions", (query) =>
    api.get("/handoff/subscriptions", { params: { query } }),
  );
  const [mapping, setMapping] = useState<Subscription | null>(null);
  return (
    <HandoffPage shown="subscriptions" about={<AboutPrices />}>
      {(finance) => (
        <>
          <Listing
            list={list}
            id={(s) => s.subscription_id}
            words="Consumer, application or price"
            reading="Reading the subscriptions"
            empty="No subscription is billed outside."
            columns={[
              {
                head: "Subscription",
                sort: "consumer",
                cell: (s) => <Whose of={s} />,
              },
              { head: "State", cell: (s) => s.state },
              {
                head: "Price outside",
                sort: "own_price",
                cell: (s) =>
                  s.own_price ? (
                    <>
                      {s.own_price} <span className="text-soft">its own</span>
                    </>
                  ) : s.plan_price ? (
                    <span className="text-soft">{s.plan_price}, its plan's</span>
                  ) : (
                    missing
                  ),
              },
              finance && {
                head: "Price it",
                quiet: true,
                cell: (s) => (
                  <WordButton onClick={() => setMapping(s)}>
                    its own price<span className="sr-only"> for {s.application}</span>…
                  </WordButton>
                ),
              },
            ]}
          />
          {mapping && <MapSubscription of={mapping} onClose={() => setMapping(null)} />}
        </>
      )}
    </HandoffPage>
  );
}

function MapConsumer({ of: c, onClose }: { of: Consumer; onClose: () => void }) {
  return (
    <Mapping
      title={`${c.consumer} outside`}
      field="customer"
      label="Customer there"
      kept={c.customer}
      known={useKnown()?.customers}
      without="Without one its usage waits."
      send={(customer) =>
        api.put("/handoff/consumers/{consumer_id}", {
          params: { path: { consumer_id: c.consumer_id }, header: edition(c) },
          body: { customer },
        })
      }
      onClose={onClose}
    />
  );
}

function MapPlan({ of: p, onClose }: { of: Plan; onClose: () => void }) {
  return (
    <Mapping
      title={`${p.product} · ${p.plan} outside`}
      field="price"
      label="Price there"
      kept={p.price}
      known={useKnown()?.prices}
      without="Without one usage of its subscriptions waits."
      send={(price) =>
        api.put("/handoff/plans/{plan_id}", {
          params: { path: { plan_id: p.plan_id }, header: edition(p) },
          body: { price },
        })
      }
      onClose={onClose}
    />
  );
}

function MapSubscription({ of: s, onClose }: { of: Subscription; onClose: () => void }) {
  return (
    <Mapping
      title={`${s.application} of ${s.consumer} outside`}
      field="price"
      label="Its own price there"
      kept={s.own_price}
      known={useKnown()?.prices}
      without={
        s.plan_price ? `Without one it has ${s.plan_price}, its plan's.` : "Without one it has its plan's."
      }
      send={(price) =>
        api.put("/handoff/subscriptions/{subscription_id}", {
          params: { path: { subscription_id: s.subscription_id }, header: edition(s) },
          body: { price },
        })
      }
      onClose={onClose}
    />
  );
}

function Mapping({
  title,
  field,
  label,
  kept,
  known,
  without,
  send,
  onClose,
}: {
  title: string;
  field: "customer" | "price";
  label: string;
  kept: string;
  known?: KnownOutside[];
  without: string;
  send: (typed: string) => Promise<unknown>;
  onClose: () => void;
}) {
  const stale = useStale();
  const list = useId();
  const entry = useEntry({
    start: { [field]: kept },
    send: (typed) => send(typed[field] ?? ""),
    done: async () => {
      await stale(STALE.handoff);
      onClose();
    },
  });
  const said = known ? `It knows ${count(known.length)} of them: type a few letters. ${without}` : without;
  return (
    <Dialog open onClose={onClose} title={title}>
      <Form of={entry}>
        <Line name={field} label={label} list={list} hint={said} autoFocus autoComplete="off" />
        <datalist id={list}>
          {known?.map((each) => (
            <option key={each.id} value={each.id}>
              {each.name}
            </option>
          ))}
        </datalist>
        <Ends onLeave={onClose}>
          <Send>Map it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
