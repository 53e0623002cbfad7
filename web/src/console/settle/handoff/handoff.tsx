import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Console } from "../../../api/console";
import { me } from "../../../api/queries/house";
import { handoff } from "../../../api/queries/settle";
import { Button, Trouble, Waiting, WordButton } from "../../../kit/controls";
import { count, dayAndMinute, minute, month, plural } from "../../../kit/format";
import { Aside, Page } from "../../frame";
import { isOne } from "../../roles";
import { BillHere, BillOutside } from "./products";

type View = Console["HandoffView"];
type Product = View["products"][number];
export type HandoffTab = "mapping" | "subscriptions" | "events" | "batches" | "sums" | "words";

const TABS: [HandoffTab, string, string][] = [
  ["mapping", "Consumers and plans", ""],
  ["subscriptions", "Subscriptions", "/subscriptions"],
  ["events", "Hours", "/events"],
  ["batches", "Batches", "/batches"],
  ["sums", "Sums", "/sums"],
  ["words", "What they say", "/words"],
];

/** A page of the handoff: how it stands, and under it what is looked at. */
export function HandoffPage({
  shown,
  about,
  children,
}: {
  shown: HandoffTab;
  about?: React.ReactNode;
  children: (finance: boolean) => React.ReactNode;
}) {
  const read = useQuery(handoff());
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  const of = read.data;
  return (
    <Page
      title="Handoff"
      sub="Usage of what is billed outside, told hour by hour to whoever bills it: who is who there, what was accepted, and the sums on both sides."
      margin={
        <>
          {about}
          {of && <Going of={of} />}
          {of && <Products of={of} finance={finance} />}
        </>
      }
    >
      <Trouble error={read.error} />
      {read.isPending && <Waiting words="Reading the handoff" />}
      {of && <Standing of={of} />}
      {of && <Tabs shown={shown} months={of.months} />}
      {of && children(finance)}
    </Page>
  );
}

function Tabs({ shown, months }: { shown: HandoffTab; months: string[] }) {
  const there = TABS.filter(([each]) => each !== "sums" || months.length > 0);
  return (
    <p className="mt-4">
      {there.map(([each, words, to], n) => (
        <span key={each}>
          {n > 0 && " · "}
          {each === shown ? (
            <b className="font-medium">{words}</b>
          ) : (
            <Link
              className="figure-link"
              to={`/settle/handoff${to}${each === "sums" ? `/${months[0]}` : ""}`}
            >
              {words}
            </Link>
          )}
        </span>
      ))}
    </p>
  );
}

/** How it stands, as a sentence. */
function Standing({ of }: { of: View }) {
  if (!of.connected)
    return (
      <p className="mt-4 text-soft">
        Nobody who bills outside is connected to this installation: what there is to hand on waits.
      </p>
    );
  if (of.products.length === 0)
    return (
      <p className="mt-4 text-soft">
        Nothing is billed outside. A product can be, from the first day of a month that was not charged for
        it.
      </p>
    );
  const missing = of.unmapped_consumers + of.unmapped_plans;
  return (
    <p className="mt-4 font-serif text-[20px]">
      <Events
        of={of.accepted}
        state="accepted"
        words={of.accepted === 1 ? "hour is accepted" : "hours are accepted"}
      />
      {of.waiting + of.sent > 0 && (
        <>
          ,{" "}
          <Events
            of={of.waiting + of.sent}
            state="waiting"
            words={of.waiting + of.sent === 1 ? "waits" : "wait"}
          />
        </>
      )}
      {of.refused > 0 && (
        <>
          ,{" "}
          <Events
            of={of.refused}
            state="refused"
            words={of.refused === 1 ? "was refused" : "were refused"}
            wrong
          />
        </>
      )}
      .
      {missing > 0 && (
        <span className="text-brass">
          {" "}
          {listOf([
            of.unmapped_consumers && plural(of.unmapped_consumers, "consumer"),
            of.unmapped_plans && plural(of.unmapped_plans, "plan"),
          ])}{" "}
          {missing === 1 ? "is" : "are"} not mapped.
        </span>
      )}
    </p>
  );
}

const listOf = (parts: (string | 0)[]) => parts.filter(Boolean).join(" and ");

function Events({ of, state, words, wrong }: { of: number; state: string; words: string; wrong?: boolean }) {
  return (
    <>
      <Link
        className={`figure-link ${wrong ? "text-madder" : ""}`}
        to={`/settle/handoff/events?state=${state}`}
      >
        {count(of)}
      </Link>{" "}
      {words}
    </>
  );
}

function Going({ of }: { of: View }) {
  return (
    <Aside title="Hour by hour">
      <p>
        {of.accepted_at ? `Accepted last at ${dayAndMinute(of.accepted_at)}.` : "Nothing was accepted yet."}{" "}
        <span className="text-soft">
          An hour is told ten minutes after its end, the next at {minute(of.next_at)}. What comes later for it
          is told as the difference.
        </span>
      </p>
      {of.trouble && (
        <p className="mt-2 text-madder">
          {capital(of.trouble.said)}. Tried {of.trouble.tries === 1 ? "once" : `${of.trouble.tries} times`},
          again at {minute(of.trouble.next_at)}.
        </p>
      )}
    </Aside>
  );
}

const capital = (words: string) => words.charAt(0).toUpperCase() + words.slice(1);

function Products({ of, finance }: { of: View; finance: boolean }) {
  const [beginning, setBeginning] = useState(false);
  const [ending, setEnding] = useState<Product | null>(null);
  return (
    <Aside title="Billed outside">
      {of.products.map((p) => (
        <p key={p.id} className="mb-1">
          {p.product}
          <span className="text-soft">
            {" "}
            since {month(p.since)}
            {p.until ? ` until ${month(p.until)} begins` : ""}, with {plural(
              p.subscriptions,
              "subscription",
            )}{" "}
          </span>
          {finance && !p.until && (
            <WordButton onClick={() => setEnding(p)}>
              bill<span className="sr-only"> {p.product}</span> here again…
            </WordButton>
          )}
        </p>
      ))}
      {finance && of.connected && (
        <p className="mt-2">
          <Button onClick={() => setBeginning(true)}>Bill a product outside…</Button>
        </p>
      )}
      {beginning && <BillOutside but={of.products} onClose={() => setBeginning(false)} />}
      {ending && <BillHere of={ending} onClose={() => setEnding(null)} />}
    </Aside>
  );
}
