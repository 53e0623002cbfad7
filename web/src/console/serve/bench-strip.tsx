import { scaleLinear } from "d3-scale";
import { curveStepAfter, line } from "d3-shape";
import { useState } from "react";
import { WordButton } from "../../kit/controls";
import { count } from "../../kit/format";
import { Table } from "../../kit/table";
import { Verdict } from "../../kit/verdict";
import type { Fired, Run } from "./bench-run";

const W = 640;
const INK: Record<string, string> = {
  served: "var(--color-kelp)",
  held: "var(--color-dusk)",
  refused: "var(--color-madder)",
};

/** A run as a strip over time: each call by its verdict, and under it what every limit has left. */
export function Strip({
  run,
  chosen,
  onChoose,
}: {
  run: Run;
  chosen: number | null;
  onChoose: (call: Fired) => void;
}) {
  const [figures, setFigures] = useState(false);
  const calls = [...run.calls].sort((a, b) => a.n - b.n);
  const span = Math.max(1, ...calls.map((c) => c.at_ms + c.wait_ms), lastPlanned(run));
  const x = scaleLinear([0, span], [4, W - 4]);
  const of = (verdict: string) => calls.filter((c) => c.verdict === verdict).length;
  const limits = run.begun.limits.map((limit, place) => ({ limit, place })).filter((l) => l.limit.allowed);
  return (
    <section className="mt-5" aria-label={`Run ${run.number}`}>
      <h2 className="flex items-baseline gap-4 border-b border-line pb-1">
        Run {run.number}
        <span className="font-sans text-[13px] text-soft">
          {run.begun.title} · {run.begun.operation}
        </span>
        <span className="ml-auto flex gap-4 font-sans text-[13px]">
          {(["served", "held", "refused"] as const).map((verdict) => (
            <Verdict key={verdict} of={verdict}>
              {count(of(verdict))} {verdict}
            </Verdict>
          ))}
        </span>
      </h2>
      <svg
        viewBox={`0 0 ${W} ${40 + limits.length * 34}`}
        className="mt-1 w-full text-[10px]"
        role="img"
        aria-label={`Calls over ${(span / 1000).toFixed(1)} s: ${of("served")} served, ${of("held")} held, ${of("refused")} refused`}
      >
        <line x1={4} x2={W - 4} y1={24.5} y2={24.5} stroke="var(--color-line)" />
        <text x={4} y={35} fill="var(--color-soft)">
          0
        </text>
        <text x={W - 4} y={35} textAnchor="end" fill="var(--color-soft)">
          {(span / 1000).toFixed(1)} s
        </text>
        {calls.map((c) => (
          // biome-ignore lint/a11y/noStaticElementInteractions: the table under it has the same by keyboard
          <g key={c.n} onClick={() => onChoose(c)} className="cursor-pointer">
            <title>{`${c.at_ms} ms: ${c.verdict}${c.by ? ` by ${c.by}` : ""}`}</title>
            {c.verdict === "held" && (
              <line
                x1={x(c.at_ms)}
                x2={x(c.at_ms + c.wait_ms)}
                y1={12}
                y2={12}
                stroke={INK.held}
                strokeDasharray="2 2"
              />
            )}
            <Mark call={c} at={x(c.at_ms)} chosen={c.n === chosen} />
          </g>
        ))}
        {limits.map(({ limit, place }, row) => (
          <Left
            key={limit.name}
            calls={calls}
            place={place}
            allowed={limit.allowed ?? 1}
            name={limit.name}
            x={x}
            top={40 + row * 34}
          />
        ))}
      </svg>
      <div className="flex gap-4 text-[13px] text-soft">
        <WordButton onClick={() => setFigures(!figures)}>
          {figures ? "as a strip alone" : "as figures"}
        </WordButton>
        <span>
          {count(calls.length)} of {count(run.begun.calls)} calls{run.running ? ", still firing" : ""}
        </span>
      </div>
      {figures && (
        <Figures
          calls={calls}
          names={run.begun.limits.map((l) => l.name)}
          chosen={chosen}
          onChoose={onChoose}
        />
      )}
    </section>
  );
}

function lastPlanned(run: Run): number {
  return run.wanted.list ? 0 : ((run.wanted.calls - 1) / run.wanted.per_second) * 1000;
}

/** Shape and colour by verdict: a full stroke, an open ring over the wait, a bar across. */
function Mark({ call, at, chosen }: { call: Fired; at: number; chosen: boolean }) {
  const ring = chosen ? <circle cx={at} cy={12} r={9} fill="none" stroke="var(--color-ink)" /> : null;
  if (call.verdict === "refused")
    return (
      <>
        {ring}
        <rect x={at - 3.5} y={9.5} width={7} height={5} fill={INK.refused} />
      </>
    );
  return (
    <>
      {ring}
      <circle
        cx={at}
        cy={12}
        r={3.6}
        fill={call.verdict === "held" ? "var(--color-sheet)" : INK.served}
        stroke={call.verdict === "held" ? INK.held : INK.served}
      />
    </>
  );
}

/** What one limit has left after each call, as steps. */
function Left({
  calls,
  place,
  allowed,
  name,
  x,
  top,
}: {
  calls: Fired[];
  place: number;
  allowed: number;
  name: string;
  x: (ms: number) => number;
  top: number;
}) {
  const known = calls.filter((c) => c.left[place] != null);
  const y = scaleLinear([0, allowed], [top + 28, top + 13]).clamp(true);
  const steps = line<Fired>()
    .x((c) => x(c.at_ms))
    .y((c) => y(Number(c.left[place])))
    .curve(curveStepAfter);
  const last = known.at(-1);
  return (
    <g>
      <line x1={4} x2={W - 4} y1={top + 28.5} y2={top + 28.5} stroke="var(--color-line-soft)" />
      <path d={steps(known) ?? ""} fill="none" stroke="var(--color-ink)" strokeWidth={1.2} />
      <text x={4} y={top + 9} fill="var(--color-soft)">
        {name}:{" "}
        {last ? `${count(last.left[place] ?? 0)} of ${count(allowed)} left` : `${count(allowed)} at most`}
      </text>
    </g>
  );
}

function Figures({
  calls,
  names,
  chosen,
  onChoose,
}: {
  calls: Fired[];
  names: string[];
  chosen: number | null;
  onChoose: (call: Fired) => void;
}) {
  return (
    <div className="mt-1 max-h-72 overflow-y-auto">
      <Table
        tight
        sticky
        rows={calls}
        id={(c) => c.n}
        current={(c) => c.n === chosen}
        columns={[
          {
            head: "ms",
            number: true,
            cell: (c) => <WordButton onClick={() => onChoose(c)}>{count(c.at_ms)}</WordButton>,
          },
          { head: "Key", cell: (c) => c.key + 1 },
          {
            head: "Verdict",
            cell: (c) => <Verdict of={c.verdict}>{c.by ? `refused by ${c.by}` : c.verdict}</Verdict>,
          },
          ...names.map((name, n) => ({
            head: `${name}, left`,
            number: true,
            cell: (c: Fired) => (c.left[n] == null ? "" : count(c.left[n] ?? 0)),
          })),
          { head: "Status", cell: (c) => c.status, number: true },
        ]}
      />
    </div>
  );
}
