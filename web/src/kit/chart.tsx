import { scaleLinear } from "d3-scale";
import { line } from "d3-shape";
import { useState } from "react";
import { WordButton } from "./controls";
import { amount, count } from "./format";
import { Table } from "./table";

type Point = { units: string; charge: string };
type Line = { plan: string; points: Point[]; as_now: Point[] | null };
type Props = {
  lines: Line[];
  top: number;
  /** Quantities at which a plan becomes the cheapest, marked on its line. */
  breakEvens: { units: number; plan: string }[];
  ticks: number[];
  unit: string;
  size?: keyof typeof SIZES;
};

/** In a margin, and where there is room. */
const SIZES = { small: [264, 176], wide: [560, 230] } as const;
const LEFT = 38;
const BOTTOM = 22;
const INKS = ["var(--color-ink)", "var(--color-brass)", "var(--color-kelp)", "var(--color-dusk)"];

/** Charge curves of plans over one meter, labelled on the line, with a table behind. */
export function CurveChart({ lines, top, breakEvens, ticks, unit, size = "small" }: Props) {
  const [W, H] = SIZES[size];
  const [figures, setFigures] = useState(false);
  const charges = lines.flatMap((l) => [...l.points, ...(l.as_now ?? [])]).map((p) => Number(p.charge));
  const x = scaleLinear([0, top], [LEFT, W - 8]);
  const y = scaleLinear([0, Math.max(1, ...charges) * 1.12], [H - BOTTOM, 12]).nice(4);
  const curve = line<Point>()
    .x((p) => x(Number(p.units)))
    .y((p) => y(Number(p.charge)));
  const heights = apart(lines.map((one) => y(Number(one.points.at(-1)?.charge ?? 0)) - 6));
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
          {y.ticks(4).map((v) => (
            <g key={v}>
              <line x1={LEFT} x2={W} y1={y(v)} y2={y(v)} stroke="var(--color-line-soft)" />
              <text x={LEFT - 5} y={y(v) + 4} textAnchor="end" fill="var(--color-soft)">
                {amount(v).replace(/\.00$/, "")}
              </text>
            </g>
          ))}
          {x
            .ticks(4)
            .filter((mark) => mark > 0 && mark <= top * 0.97)
            .map((mark) => (
              <text key={mark} x={x(mark)} y={H - 6} textAnchor="middle" fill="var(--color-soft)">
                {short(mark)}
              </text>
            ))}
          {ticks.map((q, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: two consumers may have the same quantity
            <line key={i} x1={x(q)} x2={x(q)} y1={H - BOTTOM} y2={H - BOTTOM + 5} stroke="var(--color-ink)" />
          ))}
          {lines.map((of, i) => {
            const ink = INKS[i % INKS.length];
            const end = of.points.at(-1);
            return (
              <g key={of.plan}>
                {of.as_now && (
                  <path
                    d={curve(of.as_now) ?? ""}
                    fill="none"
                    stroke={ink}
                    strokeWidth="1.6"
                    strokeDasharray="2 3"
                    opacity="0.7"
                  />
                )}
                <path d={curve(of.points) ?? ""} fill="none" stroke={ink} strokeWidth={i === 0 ? 2.6 : 1.8} />
                {end && (
                  <text
                    x={Math.min(W - 4, x(Number(end.units)) + (Number(end.units) < top * 0.6 ? 5 : 0))}
                    y={heights[i]}
                    textAnchor={Number(end.units) < top * 0.6 ? "start" : "end"}
                    fill={ink}
                    fontWeight="600"
                  >
                    {of.plan}
                  </text>
                )}
              </g>
            );
          })}
          {breakEvens.map((b) => {
            const then = lines.find((l) => l.plan === b.plan);
            return (
              then && (
                <circle
                  key={b.units + b.plan}
                  cx={x(b.units)}
                  cy={y(valueAt(then.points, b.units))}
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
    <Table
      className="mb-1"
      rows={lines.flatMap((line) => line.points.map((point) => ({ plan: line.plan, ...point })))}
      id={(_, n) => n}
      columns={[
        { head: "Plan", cell: (p) => p.plan },
        { head: unit, cell: (p) => count(p.units), number: true },
        { head: "A month", cell: (p) => amount(p.charge), number: true },
      ]}
    />
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

/** What a quantity costs, on the straight line between the corners beside it. */
function valueAt(points: Point[], q: number): number {
  const corners = points.map((p) => Number(p.units));
  return scaleLinear(
    corners,
    points.map((p) => Number(p.charge)),
  ).clamp(true)(q);
}

const short = (n: number) => (n >= 1000 ? `${Math.round(n / 100) / 10}k` : String(Math.round(n)));
