import { useQuery } from "@tanstack/react-query";
import { scaleLinear, scaleLog } from "d3-scale";
import { useState } from "react";
import type { Portal } from "../api/portal";
import { answering } from "../api/queries/portal";
import { Trouble, Waiting, WordButton } from "../kit/controls";
import { count, day } from "../kit/format";
import { Table } from "../kit/table";

type Version = Portal["VersionAnswered"];
type Day = Portal["DayAnswered"];
type Answered = Portal["Answered"];

/** How a product's versions have answered of late: each in a sentence, and by day. */
export function Answering({ slug }: { slug: string }) {
  const versions = useQuery(answering(slug));
  if (versions.error) return <Trouble error={versions.error} />;
  if (!versions.data) return <Waiting words="Adding up how it has answered" />;
  return (
    <>
      {versions.data.map((version) => (
        <VersionDays key={version.version} of={version} />
      ))}
      <p className="max-w-[76ch] text-[13px] text-soft">
        From the recorded live calls of everybody to what is sold here, by days of UTC. A bar begins where
        half of a day’s calls were answered and ends where 95 of 100 were; a mark beneath it is a day on which
        some failed, with an answer of 5xx. The time that a pace held a call is left out. Of fewer than twenty
        calls nothing is told.
      </p>
    </>
  );
}

function VersionDays({ of }: { of: Version }) {
  const [figures, setFigures] = useState(false);
  const told = of.days.filter((d) => d.answered.available !== null);
  return (
    <section aria-label={of.version} className="mb-7">
      <h2 className="text-[20px]">{of.version}</h2>
      <p className="mt-0.5 mb-2 max-w-[84ch]">{sentence(of.answered)}</p>
      {told.length > 1 && !figures && <Soon days={of.days} name={of.version} />}
      {figures && (
        <Table
          tight
          className="max-w-[560px] text-[14px]"
          rows={told}
          id={(d) => d.day}
          columns={[
            { head: "Day", cell: (d) => day(d.day) },
            { head: "Answered", number: true, cell: (d) => `${d.answered.available}%` },
            { head: "Half within", number: true, cell: (d) => within(d.answered.half_ms) },
            { head: "95 of 100 within", number: true, cell: (d) => within(d.answered.most_ms) },
          ]}
        />
      )}
      {told.length > 1 && (
        <WordButton onClick={() => setFigures(!figures)}>
          {figures ? "as a picture" : "as figures"}
        </WordButton>
      )}
    </section>
  );
}

const within = (ms: string | null) => (ms === null ? "more than 100\u00a0s" : `${count(ms)}\u00a0ms`);

function sentence(of: Answered): string {
  if (of.available === null) return "Too few calls in the last thirty days to tell how it answers.";
  return `In the last thirty days it answered ${of.available}% of its calls: half of them within ${within(of.half_ms)}, 95 of 100 within ${within(of.most_ms)}.`;
}

const [W, H, LEFT, RIGHT, BOTTOM] = [720, 132, 54, 8, 20];

/** By day, from within what half to within what 95 of 100 calls were answered, as a bar; beneath it, what failed. */
function Soon({ days, name }: { days: Day[]; name: string }) {
  const told = days.filter((d) => d.answered.half_ms !== null);
  const ends = told.map((d) => Number(d.answered.most_ms ?? 100_000));
  const x = scaleLinear([0, days.length], [LEFT, W - RIGHT]);
  const y = scaleLog([1, Math.max(100, ...ends)], [H - BOTTOM, 8]).clamp(true);
  const marks = [1, 10, 100, 1000, 10_000, 100_000].filter((ms) => ms <= Math.max(100, ...ends));
  return (
    <figure className="max-w-[720px]">
      <svg
        viewBox={`0 0 ${W} ${H}`}
        role="img"
        aria-label={`How soon ${name} answered, by day`}
        className="w-full text-[11px]"
      >
        {marks.map((ms) => (
          <g key={ms}>
            <line x1={LEFT} x2={W} y1={y(ms)} y2={y(ms)} stroke="var(--portal-line-soft)" />
            <text x={LEFT - 6} y={y(ms) + 4} textAnchor="end" fill="var(--color-soft)">
              {ms < 1000 ? `${ms} ms` : `${ms / 1000} s`}
            </text>
          </g>
        ))}
        {days.map((d, at) => {
          if (d.answered.available === null) return null;
          const [top, foot] = [
            y(Number(d.answered.most_ms ?? 100_000)),
            y(Number(d.answered.half_ms ?? 100_000)),
          ];
          const failed = Number(d.answered.available) < 100;
          return (
            <g key={d.day} fill="var(--portal-main)">
              <title>
                {day(d.day)}: {d.answered.available}% answered, half within {within(d.answered.half_ms)}, 95
                of 100 within {within(d.answered.most_ms)}
              </title>
              <rect x={x(at) + 5} y={top} width={x(1) - x(0) - 10} height={Math.max(2, foot - top)} />
              {failed && <path d={`M${x(at + 0.5)} ${H - BOTTOM + 3}l4 6h-8z`} fill="var(--color-madder)" />}
            </g>
          );
        })}
        {days.map(
          (d, at) =>
            at % 7 === 1 &&
            at < days.length - 2 && (
              <text key={d.day} x={x(at + 0.5)} y={H - 1} textAnchor="middle" fill="var(--color-soft)">
                {day(d.day)}
              </text>
            ),
        )}
      </svg>
    </figure>
  );
}
