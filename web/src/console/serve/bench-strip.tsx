import { useState } from "react";
import { WordButton } from "../../kit/controls";
import { count } from "../../kit/format";
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
  const x = (ms: number) => 4 + (ms / span) * (W - 8);
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
  const y = (left: number) => top + 28 - (Math.min(left, allowed) / allowed) * 15;
  const path = known
    .map((c, n) => {
      const at = x(c.at_ms).toFixed(1);
      const here = y(Number(c.left[place])).toFixed(1);
      return n ? `H${at}V${here}` : `M${at} ${here}`;
    })
    .join("");
  const last = known.at(-1);
  return (
    <g>
      <line x1={4} x2={W - 4} y1={top + 28.5} y2={top + 28.5} stroke="var(--color-line-soft)" />
      <path d={path} fill="none" stroke="var(--color-ink)" strokeWidth={1.2} />
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
      <table className="plain-table tight">
        <thead className="sticky top-0 bg-sheet">
          <tr>
            <th className="number">ms</th>
            <th>Key</th>
            <th>Verdict</th>
            {names.map((name) => (
              <th key={name} className="number">
                {name}, left
              </th>
            ))}
            <th className="number">Status</th>
          </tr>
        </thead>
        <tbody>
          {calls.map((c) => (
            <tr key={c.n} aria-current={c.n === chosen || undefined}>
              <td className="number">
                <WordButton onClick={() => onChoose(c)}>{count(c.at_ms)}</WordButton>
              </td>
              <td>{c.key + 1}</td>
              <td>
                <Verdict of={c.verdict}>{c.by ? `refused by ${c.by}` : c.verdict}</Verdict>
              </td>
              {names.map((name, n) => (
                <td key={name} className="number">
                  {c.left[n] == null ? "" : count(c.left[n] ?? 0)}
                </td>
              ))}
              <td className="number">{c.status}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
