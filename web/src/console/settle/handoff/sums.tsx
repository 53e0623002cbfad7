import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Console } from "../../../api/console";
import { handoff } from "../../../api/queries/settle";
import { Choose } from "../../../kit/choose";
import { Button } from "../../../kit/controls";
import { count, dayAndMinute, decimals, month } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import { Aside } from "../../frame";
import { useOpened } from "../../lately";
import { useList } from "../../list";
import { callsLink } from "../links";
import { Whose } from "../whose";
import { HandoffPage } from "./handoff";

type Row = Console["HandedSumsRow"];

/** The sums of a month on both sides. */
export function HandoffSums() {
  const { start = "" } = useParams();
  const navigate = useNavigate();
  const [ask, setAsk] = useState(false);
  const months = useQuery(handoff()).data?.months ?? [];
  useOpened(`Handed on of ${month(start)}`);
  const list = useList(
    "/handoff/{start}/sums",
    (query) => api.get("/handoff/{start}/sums", { params: { path: { start }, query: { ...query, ask } } }),
    { fill: { start }, fixed: new URLSearchParams({ ask: String(ask) }).toString() },
  );
  const places = decimals(list.rows.flatMap((r) => [r.recorded, r.accepted, r.waiting, r.to_come]));
  const figure = (of: string, to: string) =>
    Number(of) !== 0 && (
      <Link className="figure-link" to={to}>
        {count(of, places)}
      </Link>
    );
  const calls = (r: Row) => callsLink(r.subscription_id, r.meter_id, r);
  const hours = (r: Row, state: string) =>
    `/settle/handoff/events?${new URLSearchParams({ ...(state && { state }), words: r.consumer })}`;
  return (
    <HandoffPage
      shown="sums"
      about={
        <Aside title="Where units are">
          <p className="text-soft">
            Units <b className="font-medium">recorded</b> are those <b className="font-medium">accepted</b>{" "}
            outside, those that <b className="font-medium">wait</b> here, refused ones among them, and those{" "}
            <b className="font-medium">to come</b>: their hour is not due, or they came after it was looked
            at.
          </p>
        </Aside>
      }
    >
      {() => (
        <Listing
          list={list}
          id={(r) => `${r.subscription_id} ${r.meter_id}`}
          words="Consumer named"
          reading={ask ? "Asking whoever bills outside" : "Reading the sums"}
          empty={`Nothing that is billed outside was counted in ${month(start)}.`}
          actions={
            <>
              <Choose
                label="Month"
                quiet
                value={start}
                choices={[...new Set([start, ...months])].map((m): [string, string] => [m, month(m)])}
                onChange={(m) => navigate(`/settle/handoff/sums/${m}`)}
              />
              <Button main={!ask} onClick={() => setAsk(true)} disabled={ask}>
                {ask ? "They were asked" : "Ask what they have"}
              </Button>
            </>
          }
          columns={[
            {
              head: "Subscription",
              width: "w-[34%]",
              sort: "consumer",
              cell: (r) => <Whose of={r} more={r.meter && `, ${r.meter}`} />,
            },
            { head: "Recorded", number: true, cell: (r) => figure(r.recorded, calls(r)) },
            { head: "Accepted", number: true, cell: (r) => figure(r.accepted, hours(r, "accepted")) },
            { head: "Wait", number: true, cell: (r) => figure(r.waiting, hours(r, "")) },
            { head: "To come", number: true, cell: (r) => figure(r.to_come, calls(r)) },
            ask && {
              head: "They have",
              number: true,
              sort: "differing",
              cell: (r) => <Theirs of={r} places={places} />,
            },
          ]}
        />
      )}
    </HandoffPage>
  );
}

function Theirs({ of: r, places }: { of: Row; places: number }) {
  if (r.outside === null) return null;
  return (
    <>
      {Number(r.outside) !== 0 ? count(r.outside, places) : "0"}
      <div className={`text-[13px] ${r.agrees ? "text-kelp" : "text-madder"}`}>
        {r.agrees ? "agrees" : "differs"}
      </div>
    </>
  );
}

const SAID: Record<string, string> = {
  "customer.changed": "is known otherwise",
  "customer.unpaid": "has not paid",
  "customer.paid": "has paid",
  "customer.ended": "has ended",
};

/** What the outside said by itself, and what was done about it. */
export function HandoffWords() {
  const list = useList("/handoff/words", (query) => api.get("/handoff/words", { params: { query } }), {
    every: 5_000,
  });
  return (
    <HandoffPage
      shown="words"
      about={
        <Aside title="What is believed">
          <p className="text-soft">
            What is signed with the secret that both sides share, and of late. Each word is applied once; one
            that is older than what was said before changes nothing.
          </p>
        </Aside>
      }
    >
      {() => (
        <Listing
          list={list}
          id={(w) => w.id}
          words="Consumer or customer"
          reading="Reading what they said"
          empty="They have said nothing yet: that a customer is known otherwise there, has not paid, has paid, or has ended."
          columns={[
            {
              head: "Heard",
              sort: "newest",
              look: "whitespace-nowrap",
              cell: (w) => dayAndMinute(w.heard_at),
            },
            {
              head: "What they say",
              cell: (w) => (
                <>
                  {w.customer} {SAID[w.kind] ?? w.kind}
                  {w.consumer_id && (
                    <div className="text-[13px]">
                      <Link className="figure-link" to={`/admit/consumers/${w.consumer_id}`}>
                        {w.consumer}
                      </Link>
                    </div>
                  )}
                </>
              ),
            },
            {
              head: "What came of it",
              cell: (w) => <span className={w.done ? "" : "text-soft"}>{w.outcome}</span>,
            },
          ]}
        />
      )}
    </HandoffPage>
  );
}
