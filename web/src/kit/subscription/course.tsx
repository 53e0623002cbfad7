import type { Portal } from "../../api/portal";
import { dayAndYear } from "../format";

type Subscription = Pick<Portal["SubscriptionView"], "since" | "ended_at" | "stays" | "pauses" | "coming">;

const DAY = 86_400_000;

/** The stays of a subscription on a line of time, its pauses across them: from its beginning to some weeks ahead. */
export function Course({ of, revisions }: { of: Subscription; revisions?: boolean }) {
  const now = Date.now();
  const last = Math.max(now, ...of.stays.map((s) => at(s.start_at)), of.coming ? at(of.coming.at) : 0);
  const from = Math.max(at(of.since), now - 365 * DAY);
  const to = of.ended_at
    ? Math.max(at(of.ended_at), from + DAY)
    : last + Math.max((last - from) / 6, 14 * DAY);
  const place = (moment: number) => `${(100 * (Math.min(Math.max(moment, from), to) - from)) / (to - from)}%`;
  const width = (start: number, end: number) =>
    `${(100 * (Math.min(end, to) - Math.max(start, from))) / (to - from)}%`;
  const shown = of.stays.filter((s) => (s.end_at ? at(s.end_at) : to) > from);
  return (
    <figure className="mt-4 max-w-[860px]" aria-label="Its course">
      <div className="relative h-9 overflow-hidden border-b border-(--mark-line)">
        {shown.map((stay) => (
          <div
            key={stay.start_at}
            className={`absolute inset-y-0 overflow-hidden border-l-2 border-(--mark) px-1.5 pt-1.5 text-[13px] whitespace-nowrap ${stay.trial ? "border-dashed" : "bg-(--mark-tint)"}`}
            style={{
              left: place(at(stay.start_at)),
              width: width(at(stay.start_at), stay.end_at ? at(stay.end_at) : to),
            }}
          >
            {stay.new_terms ? "new terms" : stay.plan}
            {revisions && `, revision ${stay.revision}`}
            {stay.trial && ", on trial"}
          </div>
        ))}
        {of.pauses.map((pause) => (
          <div
            key={pause.start_at}
            className="absolute bottom-0 h-1.5 bg-(--mark-line)"
            style={{
              left: place(at(pause.start_at)),
              width: width(at(pause.start_at), pause.end_at ? at(pause.end_at) : to),
            }}
          />
        ))}
        {!of.ended_at && (
          <div
            className="absolute inset-y-0 border-l-2 border-(--mark-accent) pt-1.5 pl-1 text-[13px] text-soft"
            style={{ left: place(now) }}
            aria-hidden
          >
            today
          </div>
        )}
      </div>
      <figcaption className="flex justify-between text-[13px] text-soft">
        <span>{dayAndYear(new Date(from))}</span>
        <span className="sr-only">
          {shown
            .map((s) => `${s.plan}${s.trial ? ", on trial" : ""} from ${dayAndYear(s.start_at)}`)
            .join("; ")}
          {of.pauses.map((p) => `; paused from ${dayAndYear(p.start_at)}`).join("")}.
        </span>
        {of.pauses.length > 0 && <span>the strip below: paused</span>}
        <span>{dayAndYear(new Date(to))}</span>
      </figcaption>
    </figure>
  );
}

const at = (moment: string) => new Date(moment).getTime();
