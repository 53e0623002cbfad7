import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Portal } from "../../api/portal";
import { useStale } from "../../api/queries/asking";
import { difference, STALE } from "../../api/queries/portal";
import { Button, Field, Trouble, Waiting } from "../../kit/controls";
import { Difference } from "../../kit/subscription/difference";
import { kindsOf, type Move, momentsOf, VERBS, verb } from "../../kit/subscription/moves";
import { byTransfer, HowPaid, ORDER_NUMBER, useToSay } from "../paying";

type Subscription = Portal["SubscriptionView"];

const SELECT = "max-w-full border-b border-dashed border-(--portal-main) bg-transparent font-semibold";

/** What can be done with a subscription, as one sentence; what it comes to stands below before it is done. */
export function Moves({ of }: { of: Subscription }) {
  const stale = useStale();
  const kinds = kindsOf(of);
  const [kind, setKind] = useState<Move["kind"]>(kinds[0] ?? "end");
  const [plan, setPlan] = useState(of.choices[0]?.plan_id);
  const [wanted, setWhen] = useState<Move["when"] | null>(null);
  const [purpose, setPurpose] = useState("");
  const [orderNumber, setOrderNumber] = useState("");
  const moments = momentsOf(of, kind);
  const when = moments.find(([value]) => value === wanted)?.[0] ?? moments[0]?.[0] ?? "now";
  const move: Move = { kind, when, ...(kind === "change plan" && { plan_id: plan }) };
  const query = useQuery({ ...difference(of.id, move), placeholderData: keepPreviousData });
  const chosen = of.choices.find((c) => c.plan_id === plan);
  const name = chosen?.name ?? "";
  const toSay = useToSay(kind === "change plan" && chosen?.charges === true);
  const asks = kind === "change plan" && Boolean(chosen?.decided);
  const make = useMutation({
    mutationFn: () =>
      api.post("/subscriptions/{subscription_id}/moves", {
        params: { path: { subscription_id: of.id } },
        body: {
          ...move,
          plan_id: move.plan_id ?? null,
          purpose,
          payment: toSay ? byTransfer(orderNumber) : null,
        },
      }),
    onSuccess: () => {
      setPurpose("");
      return stale(STALE.move);
    },
  });
  return (
    <section aria-label="What to do with it" className="mt-7 max-w-[860px]">
      <h2 className="text-[20px]">{of.trial ? "Change or end it" : "Change, pause or end it"}</h2>
      <form
        noValidate
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <p className="mt-2 flex flex-wrap items-baseline gap-x-1.5 gap-y-1 text-[16px]">
          I want to
          <select
            aria-label="What to do"
            className={SELECT}
            value={kind}
            onChange={(e) => {
              setKind(e.target.value as Move["kind"]);
              make.reset();
            }}
          >
            {kinds.map((one) => (
              <option key={one} value={one}>
                {VERBS[one]}
              </option>
            ))}
          </select>
          {kind === "change plan" && (
            <select
              aria-label="The plan"
              className={SELECT}
              value={plan}
              onChange={(e) => setPlan(Number(e.target.value))}
            >
              {of.choices.map((choice) => (
                <option key={choice.plan_id} value={choice.plan_id}>
                  {choice.name}
                </option>
              ))}
            </select>
          )}
          {moments.length > 1 ? (
            <select
              aria-label="When"
              className={SELECT}
              value={when}
              onChange={(e) => setWhen(e.target.value as Move["when"])}
            >
              {moments.map(([value, words]) => (
                <option key={value} value={value}>
                  {words}
                </option>
              ))}
            </select>
          ) : (
            <span>{moments[0]?.[1]}</span>
          )}
        </p>
        {kind === "end" && of.notice_days > 0 && of.trial === null && (
          <p className="text-[13px] text-soft">
            {of.plan} takes {of.notice_days} days' notice.
          </p>
        )}
        <div className={query.isPlaceholderData ? "opacity-60" : ""}>
          {query.data && <Difference move={move} plan={name} found={query.data} />}
        </div>
        {query.isPending && <Waiting words="Working out what it comes to" />}
        <Trouble error={query.error} />
        {asks && (
          <div className="mt-3 max-w-[560px]">
            <Field
              label="Why? A person decides on it."
              area
              value={purpose}
              onChange={setPurpose}
              hint="A sentence helps the reviewer decide."
            />
          </div>
        )}
        {toSay && (
          <div className="mt-3 max-w-[560px]">
            <HowPaid days={toSay.days}>
              <Field value={orderNumber} onChange={setOrderNumber} {...ORDER_NUMBER} />
            </HowPaid>
          </div>
        )}
        <Trouble error={make.error} />
        <p className="mt-3">
          <Button
            main
            type="submit"
            disabled={make.isPending || !query.data || query.isPlaceholderData || toSay === undefined}
          >
            {asks ? `Ask to move to ${name}` : verb(move, name, of)}
          </Button>
        </p>
      </form>
    </section>
  );
}
