import { Link } from "react-router";

/** Whose something is: the consumer, which leads to its page, and in a second line what of it. */
export function Whose({
  of: r,
  more,
}: {
  of: { consumer_id: number | null; consumer: string; application: string; plan: string };
  more?: React.ReactNode;
}) {
  return (
    <>
      {r.consumer_id ? (
        <Link className="figure-link" to={`/admit/consumers/${r.consumer_id}`}>
          {r.consumer}
        </Link>
      ) : (
        r.consumer
      )}
      <div className="text-[13px] text-soft">
        {[r.application, r.plan].filter(Boolean).join(" on ")}
        {more}
      </div>
    </>
  );
}
