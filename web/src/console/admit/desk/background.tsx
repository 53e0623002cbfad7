import { Link } from "react-router";
import type { Console } from "../../../api/console";
import { amount, count, dayAndYear, month } from "../../../kit/format";
import { TermsTable } from "../../compose/revision";
import { Aside, Pair } from "../../frame";

/** What a reviewer weighs: what the plan gives and the back end takes, and what is known of who asks. */
export function Background({ of }: { of: Console["RequestWithBackground"] }) {
  const { background: b, request } = of;
  const calls = b.calls_28_days as Record<string, number>;
  return (
    <>
      <Aside title={request.consumer}>
        <Pair name="Consumer since">{dayAndYear(b.consumer_since)}</Pair>
        <Pair name="Served in 28 days">{count((calls.served ?? 0) + (calls.held ?? 0))}</Pair>
        <Pair name="Refused in 28 days">{count(calls.refused ?? 0)}</Pair>
        {b.applications.map((a) => (
          <div key={a.id} className="py-[3px]" title={a.purpose}>
            {a.name}
            <span className="text-soft">
              : {a.plans.map((p) => `${p.product} · ${p.plan}, ${p.state}`).join("; ") || "no plan"}
            </span>
          </div>
        ))}
        <p className="py-[3px] text-soft">{b.members.map((m) => `${m.name}, ${m.role}`).join("; ")}</p>
        <Link className="figure-link" to={`/admit/consumers/${request.consumer_id}`}>
          All of {request.consumer}
        </Link>
      </Aside>
      <Aside title="What it was charged">
        {b.invoices.length === 0 && <p className="text-soft">No invoice yet.</p>}
        {b.invoices.map((i) => (
          <Pair key={i.id} name={month(i.period_start)}>
            {amount(i.total, b.currency)}, {i.state}
          </Pair>
        ))}
      </Aside>
      {b.earlier.length > 0 && (
        <Aside title="Earlier requests">
          {b.earlier.map((r) => (
            <div key={r.id} className="border-b border-line-soft py-1.5 last:border-0">
              <Link className="figure-link" to={`/admit/desk/${r.id}`}>
                {r.application} for {r.product} · {r.plan}
              </Link>
              : {r.state}
              {r.note && <div className="text-soft">“{r.note}”</div>}
            </div>
          ))}
        </Aside>
      )}
      <Aside title="Back ends">
        {b.back_ends.map((v) => (
          <div key={v.version} className="py-[3px]">
            {v.version}
            {v.takes === null ? (
              <span className="text-soft">
                : what it takes is not known; sold are {count(v.sold)} calls a second
              </span>
            ) : (
              <span className={v.then > v.takes ? "text-madder" : "text-soft"}>
                {" "}
                takes {count(v.takes)} calls a second; sold are {count(v.sold)}
                {v.then !== v.sold && `, with this ${count(v.then)}`}
              </span>
            )}
          </div>
        ))}
      </Aside>
      <Aside title={`What ${request.plan} gives`}>
        <TermsTable rows={b.plan_rows} />
        {b.trial_had && (
          <p className="mt-2">
            {request.consumer} has had its trial of {request.product}: this begins without one.
          </p>
        )}
      </Aside>
    </>
  );
}
