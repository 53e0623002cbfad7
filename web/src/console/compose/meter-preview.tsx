import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Console } from "../../api/console";
import { meterPreview } from "../../api/queries/compose";
import { Note, Trouble, Waiting } from "../../kit/controls";
import { count, date, plural } from "../../kit/format";
import { Aside, Pair } from "../frame";

/** What a meter counts, whatever it is called. */
export type Filter = Omit<Console["MeterIn"], "name">;

/** A filter held against the last thirty days, while it is typed. */
export function Preview({ filter, meterId }: { filter: Filter; meterId: number | null }) {
  const preview = useQuery(meterPreview({ ...filter, meter_id: meterId }));
  const data = preview.data;
  if (!data)
    return (
      <Aside title="On recorded history">
        {preview.error ? <Trouble error={preview.error} /> : <Waiting words="Counting" />}
      </Aside>
    );
  const most = Math.max(0.000001, ...data.days.map((d) => Number(d.units)));
  const share = (n: number) => (data.served ? `${Math.round((n / data.served) * 100)}%` : "0%");
  const size = filter.measure === "bytes_out" || filter.measure === "bytes_in";
  const units = (value: string | number) =>
    size ? `${count(Math.round(Number(value) * 100) / 100)} MB` : count(value);
  return (
    <>
      <Aside title="On recorded history">
        <p>
          {data.units === null ? (
            <>Reported numbers are not in the history; {plural(data.matched, "call")} would be read for one</>
          ) : (
            <>
              <span className="font-serif text-[24px]">{units(data.units)}</span> from{" "}
              {plural(data.matched, "call")}
            </>
          )}{" "}
          since {date(data.since)}, {share(data.matched)} of all served.
        </p>
        <svg
          viewBox={`0 0 ${data.days.length * 9} 60`}
          className="mt-2 w-full"
          role="img"
          aria-label="Units by day"
        >
          {data.days.map((d, n) => (
            <rect
              key={d.day}
              x={n * 9}
              width="7"
              y={58 - (Number(d.units) / most) * 54}
              height={(Number(d.units) / most) * 54 + 1}
              fill="var(--color-kelp)"
              opacity="0.8"
            >
              <title>
                {date(d.day)}: {units(d.units)}
              </title>
            </rect>
          ))}
        </svg>
        <Pair name="Counted by no meter then">
          {count(data.uncounted)}, {share(data.uncounted)}
        </Pair>
        <Note>The past is not charged by this: a new meter counts from when it is kept.</Note>
      </Aside>
      <Aside title="By consumer">
        {data.consumers.slice(0, 12).map((c) => (
          <Pair
            key={c.consumer_id}
            name={
              <Link className="figure-link" to={`/admit/consumers/${c.consumer_id}`}>
                {c.consumer}
              </Link>
            }
          >
            {units(c.units)}
          </Pair>
        ))}
        {data.consumers.length > 12 && (
          <p className="text-soft">and {plural(data.consumers.length - 12, "more consumer")}</p>
        )}
        {data.consumers.length === 0 && <p className="text-soft">Nobody's calls would have counted.</p>}
      </Aside>
    </>
  );
}
