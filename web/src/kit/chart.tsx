import { useState } from "react";
import { WordButton } from "./controls";
import { amount, count } from "./format";

type Point = { units: string; charge: string };
type Line = { plan: string; points: Point[]; as_now: Point[] | null };
type Props = {
  lines: Line[];
  top: number;
  breakEvens: { units: number; then: string }[];
  ticks: number[];
  unit: string;
};

const W = 264;
const H = 176;
const LEFT = 38;
const BOTTOM = 22;
const INKS = ["var(--color-ink)", "var(--color-brass)", "var(--color-kelp)", "var(--color-dusk)"];

/** Charge curves of plans over one meter, labelled on the line, with a table behind. */
export function CurveChart({ lines, top, breakEvens, ticks, unit }: Props) {
  const [figures, setFigures] = useState(false);
  const all = lines.flatMap((l) => [...l.points, ...(l.as_now ?? [])]);
  const most = niceTop(Math.max(1, ...all.map((p) => Number(p.charge))) * 1.12);
  const x = (q: number) => LEFT + (q / top) * (W - LEFT - 8);
  const y = (v: number) => H - BOTTOM - (v / most) * (H - BOTTOM - 12);
  const path = (points: Point[]) =>
    points
      .map((p, i) => `${i ? "L" : "M"}${x(Number(p.units)).toFixed(1)} ${y(Number(p.charge)).toFixed(1)}`)
      .join("");
  const heights = apart(lines.map((line) => y(Number(line.points.at(-1)?.charge ?? 0)) - 6));
  const steps = [0, 0.25, 0.5, 0.75, 1].map((share) => share * most);
  return (
    <figure className="my-1">
      {figures ? (
        <AsFigures lines={lines} unit={unit} />
      ) : (
        <svg
          viewBox={`0 0 ${W} ${H}`}
          role="img"
          aria-label={`What a month costs by ${unit}`}
          className="w-full text-[11px]"
        >
          {steps.map((v) => (
            <g key={v}>
              <line x1={LEFT} x2={W} y1={y(v)} y2={y(v)} stroke="var(--color-line-soft)" />
              <text x={LEFT - 5} y={y(v) + 4} textAnchor="end" fill="var(--color-soft)">
                {amount(v).replace(/\.00$/, "")}
              </text>
            </g>
          ))}
          {marks(top).map((mark) => (
            <text key={mark} x={x(mark)} y={H - 6} textAnchor="middle" fill="var(--color-soft)">
              {short(mark)}
            </text>
          ))}
          {ticks.map((q, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: two consumers may have the same quantity
            <line key={i} x1={x(q)} x2={x(q)} y1={H - BOTTOM} y2={H - BOTTOM + 5} stroke="var(--color-ink)" />
          ))}
          {lines.map((line, i) => {
            const ink = INKS[i % INKS.length];
            const end = line.points.at(-1);
            return (
              <g key={line.plan}>
                {line.as_now && (
                  <path
                    d={path(line.as_now)}
                    fill="none"
                    stroke={ink}
                    strokeWidth="1.6"
                    strokeDasharray="2 3"
                    opacity="0.7"
                  />
                )}
                <path d={path(line.points)} fill="none" stroke={ink} strokeWidth={i === 0 ? 2.6 : 1.8} />
                {end && (
                  <text
                    x={Math.min(W - 4, x(Number(end.units)) + (Number(end.units) < top * 0.6 ? 5 : 0))}
                    y={heights[i]}
                    textAnchor={Number(end.units) < top * 0.6 ? "start" : "end"}
                    fill={ink}
                    fontWeight="600"
                  >
                    {line.plan}
                  </text>
                )}
              </g>
            );
          })}
          {breakEvens.map((b) => {
            const line = lines.find((l) => l.plan === b.then);
            return (
              line && (
                <circle
                  key={b.units + b.then}
                  cx={x(b.units)}
                  cy={y(valueAt(line.points, b.units))}
                  r="3.5"
                  fill="var(--color-sheet)"
                  stroke="var(--color-ink)"
                  strokeWidth="1.5"
                />
              )
            );
          })}
        </svg>
      )}
      <figcaption className="text-[13px] text-soft">
        <WordButton onClick={() => setFigures(!figures)}>{figures ? "as a chart" : "as figures"}</WordButton>
      </figcaption>
    </figure>
  );
}

function AsFigures({ lines, unit }: { lines: Line[]; unit: string }) {
  return (
    <table className="plain-table mb-1">
      <thead>
        <tr>
          <th>Plan</th>
          <th className="number">{unit}</th>
          <th className="number">A month</th>
        </tr>
      </thead>
      <tbody>
        {lines.flatMap((line) =>
          line.points.map((p, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: corners are in order
            <tr key={`${line.plan}${i}`}>
              <td>{line.plan}</td>
              <td className="number">{count(p.units)}</td>
              <td className="number">{amount(p.charge)}</td>
            </tr>
          )),
        )}
      </tbody>
    </table>
  );
}

/** Heights of labels, the higher ones pushed up where they would lie over each other. */
function apart(heights: number[]): number[] {
  const order = heights.map((_, i) => i).sort((a, b) => (heights[b] ?? 0) - (heights[a] ?? 0));
  const placed = [...heights];
  for (const [n, i] of order.entries()) {
    const below = order[n - 1];
    if (below !== undefined) placed[i] = Math.min(placed[i] ?? 0, (placed[below] ?? 0) - 12);
  }
  return placed;
}

function valueAt(points: Point[], q: number): number {
  for (let i = 1; i < points.length; i++) {
    const a = points[i - 1];
    const b = points[i];
    if (a && b && q >= Number(a.units) && q <= Number(b.units)) {
      const span = Number(b.units) - Number(a.units) || 1;
      return Number(a.charge) + ((q - Number(a.units)) / span) * (Number(b.charge) - Number(a.charge));
    }
  }
  return Number(points.at(-1)?.charge ?? 0);
}

function niceTop(value: number): number {
  const scale = 10 ** Math.floor(Math.log10(value));
  return ([1, 2, 4, 6, 8, 10].find((n) => n * scale >= value) ?? 10) * scale;
}

/** Round quantities to label on the axis, three or four of them. */
function marks(top: number): number[] {
  const rough = top / 4;
  const scale = 10 ** Math.floor(Math.log10(rough));
  const step = ([1, 2, 2.5, 5, 10].find((n) => n * scale >= rough) ?? 10) * scale;
  return [1, 2, 3, 4].map((n) => n * step).filter((mark) => mark <= top * 0.97);
}

const short = (n: number) => (n >= 1000 ? `${Math.round(n / 100) / 10}k` : String(Math.round(n)));

type Minute = { at: string; served: number; held: number; refused: number };

/** Verdicts by minute: filled, outlined, and a bar on top; a table behind. */
export function VerdictBars({ minutes, time }: { minutes: Minute[]; time: (at: string) => string }) {
  const [figures, setFigures] = useState(false);
  const most = Math.max(4, ...minutes.map((m) => m.served + m.held + m.refused));
  const high = (n: number) => (n / most) * 84;
  if (figures)
    return (
      <div className="max-h-64 overflow-y-auto">
        <table className="plain-table">
          <thead>
            <tr>
              <th>Minute</th>
              <th className="number">Served</th>
              <th className="number">Held</th>
              <th className="number">Refused</th>
            </tr>
          </thead>
          <tbody>
            {minutes.map((m) => (
              <tr key={m.at}>
                <td>{time(m.at)}</td>
                <td className="number">{m.served}</td>
                <td className="number">{m.held}</td>
                <td className="number">{m.refused}</td>
              </tr>
            ))}
          </tbody>
        </table>
        <WordButton onClick={() => setFigures(false)}>as a chart</WordButton>
      </div>
    );
  return (
    <figure>
      <svg
        viewBox="0 0 600 112"
        className="w-full max-w-[680px] text-[11px]"
        role="img"
        aria-label="Calls by minute and verdict"
      >
        <line x1="0" x2="600" y1="92" y2="92" stroke="var(--color-line)" />
        {minutes.map((m, i) => {
          const x = i * 20 + 2;
          const served = high(m.served);
          const held = high(m.held);
          return (
            <g key={m.at}>
              <rect
                x={x}
                width="16"
                y={92 - served}
                height={served}
                fill="var(--color-kelp)"
                opacity="0.78"
              />
              {m.held > 0 && (
                <rect
                  x={x + 0.75}
                  width="14.5"
                  y={92 - served - held}
                  height={held}
                  fill="none"
                  stroke="var(--color-dusk)"
                  strokeWidth="1.5"
                />
              )}
              {m.refused > 0 && (
                <rect
                  x={x}
                  width="16"
                  y={90 - served - held - high(m.refused)}
                  height={high(m.refused)}
                  fill="var(--color-madder)"
                />
              )}
              {i % 5 === 0 && (
                <text x={x} y="107" fill="var(--color-soft)">
                  {time(m.at)}
                </text>
              )}
            </g>
          );
        })}
      </svg>
      <figcaption className="text-[13px]">
        <WordButton onClick={() => setFigures(true)}>as figures</WordButton>
      </figcaption>
    </figure>
  );
}
