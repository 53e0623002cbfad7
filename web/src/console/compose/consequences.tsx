import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import type { Console } from "../../api/console";
import { consequences, estimate as estimateOf } from "../../api/queries/compose";
import { CurveChart } from "../../kit/chart";
import { Note, Trouble, Waiting, WordButton } from "../../kit/controls";
import { amount, count } from "../../kit/format";
import { Aside, Pair } from "../frame";

/** The sheet's margin: what a month costs, last month under the draft, and what is worth a look. */
export function Consequences({ productId, sheet }: { productId: number; sheet: Console["Sheet"] }) {
  const query = useQuery(consequences(productId));
  const data = query.data;
  if (!data)
    return query.error ? <Trouble error={query.error} /> : <Waiting words="Working out the consequences" />;
  const drafted = sheet.plans.some((p) => p.drafted);
  return (
    <>
      {data.worth_a_look.length > 0 && (
        <Aside title="Worth a look">
          {data.worth_a_look.map((note) => (
            <Note key={note}>{note}</Note>
          ))}
        </Aside>
      )}
      {data.meters.map((m) => (
        <Aside key={m.meter} title={`A month, by ${m.name.toLowerCase()}`}>
          <CurveChart
            lines={m.curves}
            top={m.top}
            breakEvens={m.break_evens.map(({ units, then: plan }) => ({ units, plan }))}
            ticks={m.consumers}
            unit={m.name.toLowerCase()}
          />
          <Typical productId={productId} meter={m} />
          <p className="text-soft">
            {m.break_evens.map((b) => (
              <span key={`${b.units}${b.then}`}>
                From <b className="font-semibold text-ink">{count(b.units)}</b> {m.name.toLowerCase()} on,{" "}
                {b.then} costs less than {b.until_then}.{" "}
              </span>
            ))}
            {m.consumers.length > 0 && `Ticks are ${data.period}'s consumers.`}
          </p>
        </Aside>
      ))}
      <LastMonth data={data} drafted={drafted} />
    </>
  );
}

/** What somebody who uses so much pays on each plan, exactly; dragged along the curve. */
function Typical({ productId, meter }: { productId: number; meter: Console["MeterCurves"] }) {
  const middle = meter.consumers[Math.floor(meter.consumers.length / 2)];
  const [units, setUnits] = useState(middle ?? Math.round(meter.top / 2));
  const asked = useDeferredValue(units);
  const estimate = useQuery(estimateOf(productId, meter.meter, asked));
  const charges = estimate.data ?? [];
  const least = Math.min(...charges.filter((e) => e.charge !== null).map((e) => Number(e.charge)));
  return (
    <div className="mb-2">
      <label className="block text-soft">
        At <b className="font-semibold text-ink">{count(units)}</b> {meter.name.toLowerCase()} a month
        <input
          type="range"
          className="block w-full accent-(--color-kelp)"
          min={0}
          max={meter.top}
          step={Math.max(1, Math.round(meter.top / 400))}
          value={units}
          onChange={(e) => setUnits(Number(e.target.value))}
        />
      </label>
      {charges.map((e) => (
        <Pair key={e.plan_id} name={e.plan}>
          {e.charge === null ? (
            <span className="text-soft">refuses before</span>
          ) : Number(e.charge) === least ? (
            <b className="font-semibold">{amount(e.charge)}</b>
          ) : (
            amount(e.charge)
          )}
        </Pair>
      ))}
    </div>
  );
}

function LastMonth({ data, drafted }: { data: Console["Consequences"]; drafted: boolean }) {
  const [all, setAll] = useState(false);
  const change = Number(data.after) - Number(data.before);
  const percent = Number(data.before) ? (change / Number(data.before)) * 100 : 0;
  const less = data.consumers.filter((c) => Number(c.after) < Number(c.before)).length;
  const more = data.consumers.filter((c) => Number(c.after) > Number(c.before)).length;
  if (data.consumers.length === 0)
    return (
      <Aside title={data.period}>
        <p className="text-soft">
          Nobody was subscribed in {data.period}, so there is no use to hold a draft against.
        </p>
      </Aside>
    );
  const shown = all ? data.consumers : data.consumers.slice(0, 3);
  return (
    <Aside title={drafted ? `${data.period} under this draft` : `${data.period}, as charged`}>
      <Pair name="Charged">
        <span className="font-serif text-[17px]">
          {drafted ? `${amount(data.before)} → ${amount(data.after)}` : amount(data.before)}
        </span>
        {drafted && change !== 0 && (
          <span className={change < 0 ? "text-dusk" : "text-brass"}>
            {" "}
            {percent > 0 ? "+" : "−"}
            {Math.abs(percent).toFixed(1)}%
          </span>
        )}
      </Pair>
      {drafted && <Pair name="Consumers who pay less">{`${less} of ${data.consumers.length}`}</Pair>}
      {drafted && more > 0 && (
        <Pair name="Consumers who pay more">{`${more} of ${data.consumers.length}`}</Pair>
      )}
      {shown.map((c) => (
        <Pair
          key={c.consumer_id}
          name={
            <Link className="figure-link" to={`/admit/consumers/${c.consumer_id}`}>
              {c.consumer}
            </Link>
          }
        >
          {drafted && c.after !== c.before ? `${amount(c.before)} → ${amount(c.after)}` : amount(c.before)}
        </Pair>
      ))}
      {data.consumers.length > 3 && (
        <WordButton onClick={() => setAll(!all)}>{all ? "fewer" : `all ${data.consumers.length}`}</WordButton>
      )}
    </Aside>
  );
}
