import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { difference, STALE, subscription } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { me } from "../../api/queries/house";
import { Choose } from "../../kit/choose";
import { Button, Field, Trouble, Waiting, WordButton } from "../../kit/controls";
import { untilWhen } from "../../kit/format";
import { Difference } from "../../kit/subscription/difference";
import { kindsOf, type Move, momentsOf, VERBS, verb } from "../../kit/subscription/moves";
import { isOne } from "../roles";

type Subscription = Console["SubscriptionView"];

/** Moving a consumer's subscription for it: what it comes to stands below before it is done. */
export function Moving({ id }: { id: number }) {
  const moves = isOne(useQuery(me()).data?.roles, ["product manager", "reviewer"]);
  const one = useQuery({ ...subscription(id), enabled: moves });
  if (!moves || one.data?.state === "ended") return null;
  if (!one.data)
    return one.error ? <Trouble error={one.error} /> : <Waiting words="Reading what can be done with it" />;
  return <Form key={`${one.data.state} ${one.data.plan_id}`} of={one.data} />;
}

function Form({ of }: { of: Subscription }) {
  const stale = useStale();
  const kinds = kindsOf(of);
  const [kind, setKind] = useState<Move["kind"]>(kinds[0] ?? "end");
  const [plan, setPlan] = useState(of.choices[0]?.plan_id);
  const [wanted, setWhen] = useState<Move["when"] | null>(null);
  const [purpose, setPurpose] = useState("");
  const [looking, setLooking] = useState(false);
  const moments = momentsOf(of, kind);
  const when = moments.find(([value]) => value === wanted)?.[0] ?? moments[0]?.[0] ?? "now";
  const move: Move = { kind, when, ...(kind === "change plan" && { plan_id: plan }) };
  const query = useQuery({
    ...difference(of.id, move),
    enabled: looking,
    placeholderData: keepPreviousData,
  });
  const chosen = of.choices.find((c) => c.plan_id === plan);
  const asks = kind === "change plan" && Boolean(chosen?.decided);
  const charges = kind === "change plan" && chosen?.charges === true;
  const path = { params: { path: { subscription_id: of.id } } };
  const make = useMutation({
    mutationFn: () =>
      api.post("/subscriptions/{subscription_id}/moves", {
        ...path,
        body: {
          ...move,
          plan_id: move.plan_id ?? null,
          purpose,
          payment: charges ? { method: "transfer", order_number: "" } : null,
        },
      }),
    onSuccess: () => {
      setLooking(false);
      return stale(STALE.move);
    },
  });
  const back = useMutation({
    mutationFn: () => api.delete("/subscriptions/{subscription_id}/coming-move", path),
    onSettled: () => stale(STALE.move),
  });
  return (
    <section aria-label="Moving it" className="mt-5">
      {of.coming && (
        <p className="mb-2">
          {of.coming.plan ? `${of.coming.plan} follows` : "It is over"} from {untilWhen(of.coming.at)}, by{" "}
          {of.coming.made_by} ·{" "}
          <WordButton disabled={back.isPending} onClick={() => back.mutate()}>
            take that back
          </WordButton>
          <Trouble error={back.error} />
        </p>
      )}
      {of.waiting && <p className="mb-2 text-soft">A move to {of.waiting} waits on the desk.</p>}
      {!looking && (
        <WordButton onClick={() => setLooking(true)}>move, pause or end it for {of.application}…</WordButton>
      )}
      {looking && (
        <form
          noValidate
          className="max-w-[860px]"
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <div className="flex flex-wrap gap-x-4">
            <Choose
              label="What to do"
              value={kind}
              choices={kinds.map((each) => [each, VERBS[each]] as const)}
              onChange={setKind}
            />
            {kind === "change plan" && (
              <Choose
                label="The plan"
                value={String(plan)}
                choices={of.choices.map((each) => [String(each.plan_id), each.name] as const)}
                onChange={(value) => setPlan(Number(value))}
              />
            )}
            <Choose label="When" value={when} choices={moments} onChange={setWhen} />
          </div>
          {query.data && (
            <div className={query.isPlaceholderData ? "opacity-60" : ""}>
              <Difference move={move} plan={chosen?.name ?? ""} found={query.data} all="all it has" />
            </div>
          )}
          {query.isPending && <Waiting words="Working out what it comes to" />}
          <Trouble error={query.error} />
          {charges && (
            <p className="mt-2 text-[13px] text-soft">
              Where it has not said yet how it pays, its invoices will be to be paid by transfer.
            </p>
          )}
          {asks && (
            <div className="mt-3 max-w-[560px]">
              <Field
                label="Why it is moved, for the request"
                area
                value={purpose}
                onChange={setPurpose}
                hint={chosen?.decided}
              />
            </div>
          )}
          <Trouble error={make.error} />
          <p className="mt-3 flex gap-4">
            <Button main type="submit" disabled={make.isPending || !query.data || query.isPlaceholderData}>
              {verb(move, chosen?.name ?? "", of)}
            </Button>
            <WordButton onClick={() => setLooking(false)}>leave it as it is</WordButton>
          </p>
        </form>
      )}
    </section>
  );
}
