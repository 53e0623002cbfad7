import { useState } from "react";
import type { Portal } from "../api/portal";
import { CurveChart } from "../kit/chart";
import { Button, WordButton } from "../kit/controls";
import { amount } from "../kit/format";
import type { EstimatesOf } from "./estimator";

type Product = Portal["Storefront"];
type Estimate = Portal["PlanEstimate"];

/** Plans side by side in the tariff sheet's sentences, each with what one's own use comes to. */
export function Plans({
  product,
  estimates,
  onChoose,
}: {
  product: Product;
  estimates: EstimatesOf;
  onChoose: (plan: number) => void;
}) {
  const [differing, setDiffering] = useState(false);
  const estimateOf = (plan: number) => estimates.answer?.plans.find((one) => one.plan_id === plan);
  /** A meter may have an allowance and a price: each row says which it is. */
  const named = ({ label, group }: Product["terms"][number]) =>
    product.terms.filter((term) => term.label === label).length > 1
      ? `${label}, ${group.toLowerCase()}`
      : label;
  const terms = product.terms.filter((term) => !(differing && term.same));
  const same = product.terms.filter((term) => term.same).length;
  const head = (offer: Product["offers"][number]) => (
    <>
      {/* Above what it costs, which comes later and is of any height: nothing moves under the pointer. */}
      <div className="flex flex-wrap items-baseline justify-between gap-x-3 gap-y-2">
        <h2 className="text-[22px]">{offer.name}</h2>
        <Button main={estimateOf(offer.plan_id)?.cheapest} onClick={() => onChoose(offer.plan_id)}>
          Choose {offer.name}
        </Button>
      </div>
      <Costs of={estimateOf(offer.plan_id)} />
    </>
  );
  return (
    <>
      {product.open_under && (
        <p className="mb-3 max-w-[68ch]">
          Anyone may call it without a credential: such calls count for their address under the limits of{" "}
          {product.open_under}, and cost nothing.
        </p>
      )}
      <div className="hidden md:block">
        <table className="w-full table-fixed text-[14px]">
          <caption className="sr-only">Plans of {product.name} side by side</caption>
          <thead>
            <tr className="border-t border-(--portal-line)">
              <td className="w-[150px]" />
              {product.offers.map((offer) => (
                <th
                  key={offer.plan_id}
                  scope="col"
                  aria-label={offer.name}
                  className="border-l border-(--portal-line) px-5 pt-4 pb-5 text-left align-top font-normal"
                >
                  {head(offer)}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {terms.map((term) => (
              <tr key={term.group + term.label} className="border-t border-(--portal-line-soft)">
                <th scope="row" className="py-1.5 pr-3 text-left align-baseline font-normal text-soft">
                  {named(term)}
                </th>
                {term.cells.map((cell, place) => (
                  <td
                    key={product.offers[place]?.plan_id}
                    className="border-l border-(--portal-line) px-5 py-1.5 align-baseline"
                  >
                    {cell}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div className="md:hidden">
        {product.offers.map((offer, place) => (
          <section
            key={offer.plan_id}
            aria-label={offer.name}
            className="border-t border-(--portal-line) py-4"
          >
            {head(offer)}
            <dl className="mt-3 text-[14px]">
              {terms.map((term) => (
                <div key={term.group + term.label} className="border-b border-(--portal-line-soft) py-1.5">
                  <dt className="text-[13px] text-soft">{named(term)}</dt>
                  <dd>{term.cells[place]}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </div>
      {same > 0 && product.offers.length > 1 && (
        <p className="mt-2">
          <WordButton aria-pressed={differing} onClick={() => setDiffering(!differing)}>
            {differing ? "all terms" : "only where they differ"}
          </WordButton>
        </p>
      )}
      <Curves estimates={estimates} />
    </>
  );
}

function Costs({ of }: { of: Estimate | undefined }) {
  if (!of) return <p className="mt-1 text-soft">being worked out …</p>;
  return (
    <>
      {of.charge === null ? (
        <p className="mt-1 font-serif text-[22px] text-madder">does not reach</p>
      ) : (
        <p className="mt-1 font-serif text-[28px] leading-tight">
          {amount(of.charge)} <span className="text-[15px] text-(--portal-soft)">a month, before tax</span>
        </p>
      )}
      {of.cheapest && (
        <p className="text-[13px] font-semibold text-(--portal-main)">Costs least for this use</p>
      )}
      {of.shortfalls.map((short) => (
        <p key={short} className="text-[13px] text-soft">
          {short}
        </p>
      ))}
    </>
  );
}

/** What a month costs over one meter, the others as they are typed. */
function Curves({ estimates }: { estimates: EstimatesOf }) {
  const { answer, change } = estimates;
  const meter = answer?.meters.find((one) => one.key === answer.along);
  if (!answer || !meter) return null;
  const lines = answer.plans
    .filter((plan) => plan.points.length > 0)
    .map((plan) => ({ plan: plan.plan, points: plan.points, as_now: null }));
  const turns = answer.plans.flatMap(({ cheapest_from: from, plan }) =>
    from === null ? [] : [{ units: Number(from), plan }],
  );
  return (
    <section className="mt-6 max-w-[560px]">
      <h2 className="mb-1">A month, by {meter.name.toLowerCase()}</h2>
      <CurveChart
        lines={lines}
        top={answer.top}
        breakEvens={turns}
        ticks={[Number(meter.units)]}
        unit={meter.name.toLowerCase()}
        size="wide"
      />
      {answer.meters.length > 1 && (
        <p className="text-[13px] text-soft">
          Other meters are as typed above. Draw it by{" "}
          {answer.meters
            .filter((one) => one.key !== answer.along)
            .map((one, place) => (
              <span key={one.key}>
                {place > 0 && ", "}
                <WordButton onClick={() => change({ along: one.key })}>{one.name.toLowerCase()}</WordButton>
              </span>
            ))}
          .
        </p>
      )}
    </section>
  );
}
