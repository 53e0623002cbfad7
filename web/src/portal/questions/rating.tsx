import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Portal } from "../../api/portal";
import { showAnswer } from "../../api/queries/asking";
import { ratings } from "../../api/queries/portal";
import { Trouble, Waiting } from "../../kit/controls";
import { RatingBars } from "../../kit/rating-bars";
import { useMe } from "../me";

type Ratings = Portal["Ratings"];

/** What each number of a rating means. */
const MEANS = ["of no use", "poor", "fair", "good", "very good"];

/** How a product was rated, and what one's own organisation gives it. */
export function HowRated({ slug, name }: { slug: string; name: string }) {
  const query = useQuery(ratings(slug));
  return (
    <aside aria-label="Ratings" className="text-[14px] lg:border-l lg:border-(--portal-line) lg:pl-6">
      <h2 className="mb-1 text-[18px]">Ratings</h2>
      <Trouble error={query.error} />
      {query.isPending && <Waiting words="Reading the ratings" />}
      {query.data && (
        <>
          <p className="mb-2">{query.data.said}</p>
          {query.data.average !== null && (
            <RatingBars given={query.data.given} name={name} ink="var(--portal-main)" />
          )}
          <Own slug={slug} name={name} of={query.data} />
        </>
      )}
    </aside>
  );
}

function Own({ slug, name, of }: { slug: string; name: string; of: Ratings }) {
  const queries = useQueryClient();
  const me = useMe();
  const rate = useMutation({
    mutationFn: (stars: number) =>
      api.put("/products/{slug}/rating", { params: { path: { slug } }, body: { stars } }),
    onSuccess: (answer) => showAnswer(queries, ratings(slug), answer),
  });
  if (!of.may_rate)
    return (
      <p className="mt-3 text-[13px] text-soft">
        Organisations that are, or were, on a plan of {name} rate it, each once.
      </p>
    );
  const shown = rate.isPending ? rate.variables : of.own;
  return (
    <fieldset className="mt-4">
      <legend className="mb-1">
        {of.own
          ? `${me.consumer} gives it ${of.own} of 5: ${MEANS[of.own - 1]}.`
          : `What does ${me.consumer} give it?`}
      </legend>
      <div className="flex gap-1.5">
        {MEANS.map((means, at) => (
          <label
            key={means}
            title={means}
            className={`relative flex size-8 cursor-pointer items-center justify-center border text-[14px] has-focus-visible:outline-2 ${
              shown === at + 1
                ? "border-(--portal-main) bg-(--portal-main) text-white"
                : "border-(--portal-line) hover:border-(--portal-main)"
            }`}
          >
            <input
              type="radio"
              name="rating"
              className="absolute size-px opacity-0"
              aria-label={`${at + 1} of 5: ${means}`}
              checked={shown === at + 1}
              disabled={rate.isPending}
              onChange={() => rate.mutate(at + 1)}
            />
            {at + 1}
          </label>
        ))}
      </div>
      <p className="mt-1 text-[13px] text-soft">1 is of no use, 5 very good. It can be changed.</p>
      <Trouble error={rate.error} />
    </fieldset>
  );
}
