import { count } from "./format";

/** How far work is that goes on by itself: so many of so many `units`. */
export function Progress({
  done,
  of,
  units,
  words,
}: {
  done: number;
  of: number;
  units: string;
  words: string;
}) {
  return (
    <div className="my-2 max-w-[520px]" role="status">
      <progress className="w-full accent-(--color-kelp)" value={done} max={of || 1} aria-label={words} />
      <p className="text-soft">
        {count(done)} of {count(of)} {units} {words}. You can leave this page; it goes on.
      </p>
    </div>
  );
}
