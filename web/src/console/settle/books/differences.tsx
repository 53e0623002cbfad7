import { Link } from "react-router";
import { api, type Console } from "../../../api/console";
import { amount, clock, count, day } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import { useList } from "../../list";
import { documentLink } from "../links";

type Difference = Console["DifferenceView"];
type Stretch = Difference["came_of"][number];

const MONEY = ["documents", "accounts", "money", "journal"];

/** What differs, and which hours and calls it came of. */
export function Differences({ currency }: { currency: string }) {
  const list = useList("/books/differences", (query) => api.get("/books/differences", { params: { query } }));
  return (
    <Listing
      list={list}
      id={(d) => d.id}
      reading="Reading what differs"
      empty="Nothing differs."
      columns={[
        { head: "What differs", cell: (d) => <What of={d} />, look: "align-top" },
        {
          head: "What the tables say",
          look: "align-top",
          width: "w-[36%]",
          cell: (d) => (
            <dl className="grid grid-cols-[1fr_auto] gap-x-4">
              {d.sums.map((s) => (
                <div key={s.table} className="contents">
                  <dt className="text-soft">{s.table}</dt>
                  <dd className="number">
                    {MONEY.includes(d.check) ? amount(s.amount, currency) : count(s.amount)}
                  </dd>
                </div>
              ))}
            </dl>
          ),
        },
      ]}
    />
  );
}

function What({ of: d }: { of: Difference }) {
  return (
    <>
      <p className="first-letter:uppercase">
        {d.document_id ? (
          <Link
            className="figure-link"
            to={documentLink({ kind: d.document_kind, document_id: d.document_id })}
          >
            {d.what}
          </Link>
        ) : (
          d.what
        )}
      </p>
      {d.whose && <p className="text-[13px] text-soft">{d.whose}</p>}
      {d.came_of.map((s) => (
        <Hour key={s.since_us} of={s} difference={d} />
      ))}
    </>
  );
}

function Hour({ of: s, difference: d }: { of: Stretch; difference: Difference }) {
  const whose = [
    d.subscription_id && `subscription=${d.subscription_id}`,
    d.meter_id && `meter=${d.meter_id}`,
    d.consumer_id && !d.subscription_id && `consumer=${d.consumer_id}`,
  ].filter(Boolean);
  const to = `/observe/traffic?${[...whose, `since_us=${s.since_us}`, `until_us=${s.until_us}`].join("&")}`;
  const since = new Date(s.since_us / 1000).toISOString();
  return (
    <div className="mt-1 text-[13px]">
      <Link className="figure-link" to={to}>
        {day(since)}
        {s.until_us - s.since_us <= 3_600_000_000 && `, the hour from ${clock(since).slice(0, 5)}`}
      </Link>
      <span className="text-soft">
        : {s.sums.map((each) => `${each.table} ${count(each.amount)}`).join(", ")}
      </span>
      {s.wrong.map((call) => (
        <p key={call.call_id} className="pl-4">
          <Link className="figure-link" to={`/observe/traffic?call=${call.call_id}`}>
            {call.call_id}
          </Link>{" "}
          says {count(call.says)}, and its meter reads {count(call.reads)}
        </p>
      ))}
    </div>
  );
}
