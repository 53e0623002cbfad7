import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Console } from "../../api/console";
import { me } from "../../api/queries/house";
import { dayAndYear, untilWhen } from "../../kit/format";
import { Course } from "../../kit/subscription/course";
import { isOne } from "../roles";

/** Each of a consumer's subscriptions on its line of time. */
export function Courses({ of: c }: { of: Console["ConsumerView"] }) {
  const moves = isOne(useQuery(me()).data?.roles, ["product manager", "reviewer"]);
  if (c.courses.length === 0) return <p className="py-2 text-soft">It has subscribed to nothing yet.</p>;
  return c.courses.map((of) => (
    <div key={of.subscription_id} className="border-b border-line-soft pt-2.5 pb-2">
      <p>
        {of.application} on {of.offer},{" "}
        <span className="text-soft">
          {of.state}
          {of.ended_at
            ? ` since ${dayAndYear(of.ended_at)}`
            : of.coming && `; ${of.coming.plan ?? "over"} from ${untilWhen(of.coming.at)}`}
        </span>{" "}
        ·{" "}
        <Link className="figure-link" to={`/admit/subscriptions/${of.subscription_id}`}>
          {moves && of.state !== "ended" ? "its history, and moving it" : "its history"}
        </Link>
      </p>
      <Course of={of} revisions />
    </div>
  ));
}
