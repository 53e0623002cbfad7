import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, type Portal } from "../../api/portal";
import { useStale } from "../../api/queries/asking";
import { STALE, subscription } from "../../api/queries/portal";
import { Trouble, Waiting, WordButton } from "../../kit/controls";
import { count, dayAndYear, plural, untilWhen } from "../../kit/format";
import { Course } from "../../kit/subscription/course";
import { useMe } from "../me";
import { Moves } from "./moves";

type Subscription = Portal["SubscriptionView"];

const STATES: Record<string, string> = {
  active: "active",
  trial: "on trial",
  paused: "paused: its calls are refused",
  ended: "ended",
};

/** One subscription: how it stands, how it came to that, and what can be done with it. */
export function SubscriptionPage() {
  const { id } = useParams();
  const me = useMe();
  const query = useQuery(subscription(Number(id)));
  const of = query.data;
  if (!of)
    return query.error ? <Trouble error={query.error} /> : <Waiting words="Fetching the subscription" />;
  return (
    <>
      <h1>
        {of.product} · {of.plan}
      </h1>
      <p className="mt-1 text-soft">
        <Link className="figure-link" to={`/applications/${of.application_id}`}>
          {of.application}
        </Link>{" "}
        has it since {dayAndYear(of.since)}; it is {STATES[of.state] ?? of.state}
        {of.ended_at && ` since ${untilWhen(of.ended_at)}`}.{" "}
        <Link className="figure-link" to={`/products/${of.slug}`}>
          Compare the plans
        </Link>
      </p>
      <Course of={of} />
      {of.trial && <Trial trial={of.trial} />}
      {of.coming && <Coming of={of} coming={of.coming} />}
      {of.waiting && (
        <p className="mt-3 border-l-[3px] border-(--portal-accent) pl-3">
          A move to {of.waiting} waits for a decision. It can be taken back on the page of {of.application}.
        </p>
      )}
      {of.state !== "ended" &&
        (me.may.includes("move subscriptions") ? (
          <Moves key={`${of.state} ${of.plan_id}`} of={of} />
        ) : (
          <p className="mt-7 text-soft">Owners of {me.consumer} change, pause and end it.</p>
        ))}
    </>
  );
}

function Trial({ trial }: { trial: NonNullable<Subscription["trial"]> }) {
  return (
    <section
      aria-label="The trial"
      className="mt-4 max-w-[68ch] border-l-[3px] border-(--portal-accent) pl-3"
    >
      <p>
        The trial runs until {untilWhen(trial.ends_at)}: <b>{plural(trial.days_left, "day")}</b>{" "}
        {trial.days_left === 1 ? "is" : "are"} left with today
        {trial.units_left !== null && trial.units !== null && (
          <>
            , and{" "}
            <b>
              {count(trial.units_left)} of {count(trial.units)}
            </b>{" "}
            {trial.meter?.toLowerCase()}
          </>
        )}
        .{" "}
        {trial.follows
          ? `Then ${trial.follows} follows, with its charges.`
          : "Nothing follows it: it ends then."}
      </p>
      {trial.units !== null && trial.units_left !== null && (
        <meter
          aria-label="What is left of the trial"
          className="mt-1 h-2 w-60"
          min={0}
          max={Number(trial.units)}
          value={Number(trial.units_left)}
        />
      )}
    </section>
  );
}

function Coming({ of, coming }: { of: Subscription; coming: NonNullable<Subscription["coming"]> }) {
  const stale = useStale();
  const me = useMe();
  const takeBack = useMutation({
    mutationFn: () =>
      api.delete("/subscriptions/{subscription_id}/coming-move", {
        params: { path: { subscription_id: of.id } },
      }),
    onSuccess: () => stale(STALE.move),
  });
  return (
    <section
      aria-label="What is to come"
      className="mt-4 max-w-[68ch] border-l-[3px] border-(--portal-accent) pl-3"
    >
      <p>
        With {untilWhen(coming.at)} it {coming.plan ? <b>becomes {coming.plan}</b> : <b>ends</b>}, as{" "}
        {coming.made_by} has said.{" "}
        {me.may.includes("move subscriptions") && (
          <WordButton disabled={takeBack.isPending} onClick={() => takeBack.mutate()}>
            leave it as it is
          </WordButton>
        )}
      </p>
      <Trouble error={takeBack.error} />
    </section>
  );
}
