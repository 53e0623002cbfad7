import { count, plural } from "./format";

/** How many organisations gave each of one to five, as bars. */
export function RatingBars({
  given,
  name,
  ink,
}: {
  given: { stars: number; ratings: number }[];
  name: string;
  ink: string;
}) {
  const most = Math.max(1, ...given.map((each) => each.ratings));
  return (
    <ul aria-label={`Ratings of ${name}`} className="max-w-[280px]">
      {given.map(({ stars, ratings }) => (
        <li key={stars} className="flex items-center gap-2 leading-[1.7]">
          <span className="sr-only">{`${plural(ratings, "organisation")} gave ${stars} of 5`}</span>
          <span aria-hidden className="w-3 text-right tabular-nums">
            {stars}
          </span>
          <span aria-hidden className="h-[9px] flex-1">
            <span
              className="block h-full"
              style={{ width: `${(100 * ratings) / most}%`, background: ink, opacity: 0.75 }}
            />
          </span>
          <span aria-hidden className="w-6 text-right text-soft tabular-nums">
            {count(ratings)}
          </span>
        </li>
      ))}
    </ul>
  );
}
