import { scaleBand, scaleLinear } from "d3-scale";
import { useState } from "react";
import { WordButton } from "./controls";
import { count } from "./format";
import { Table } from "./table";

type Bar = { at: string; served: number; held: number; refused: number };
type Props = {
  bars: Bar[];
  /** What is told of a bar's time. */
  name: (at: string) => string;
  /** What a bar is of: the head of its column. */
  of: string;
  /** Every so many bars, one is named beneath. */
  every: number;
  /** What the picture shows, for who does not see it. */
  says: string;
  open?: (at: string) => void;
};

const [W, H, LEFT, FOOT] = [600, 132, 36, 18];

/** Calls by verdict over time: filled, outlined, and a bar on top; a table behind. */
export function VerdictBars({ bars, name, of, every, says, open }: Props) {
  const [figures, setFigures] = useState(false);
  if (figures)
    return (
      <div className="max-h-64 overflow-y-auto">
        <Table
          rows={bars}
          id={(b) => b.at}
          columns={[
            {
              head: of,
              cell: (b) =>
                open ? <WordButton onClick={() => open(b.at)}>{name(b.at)}</WordButton> : name(b.at),
            },
            { head: "Served", cell: (b) => count(b.served), number: true },
            { head: "Held", cell: (b) => count(b.held), number: true },
            { head: "Refused", cell: (b) => count(b.refused), number: true },
          ]}
        />
        <WordButton onClick={() => setFigures(false)}>as a chart</WordButton>
      </div>
    );
  const most = Math.max(4, ...bars.map((b) => b.served + b.held + b.refused));
  const y = scaleLinear([0, most], [H - FOOT, 10]).nice(4);
  const high = (n: number) => y(0) - y(n);
  const x = scaleBand(
    bars.map((b) => b.at),
    [LEFT, W],
  ).padding(0.2);
  const wide = x.bandwidth();
  return (
    <figure>
      <svg
        viewBox={`0 0 ${W} ${H}`}
        className="w-full max-w-[680px] text-[11px]"
        role="img"
        aria-label={says}
      >
        {y
          .ticks(4)
          .filter(Number.isInteger)
          .map((n) => (
            <g key={n}>
              <line
                x1={LEFT}
                x2={W}
                y1={y(n)}
                y2={y(n)}
                stroke={n ? "var(--color-line-soft)" : "var(--color-line)"}
              />
              <text x={LEFT - 5} y={y(n) + 4} textAnchor="end" fill="var(--color-soft)">
                {count(n)}
              </text>
            </g>
          ))}
        {bars.map((b, i) => {
          const [served, held] = [high(b.served), high(b.held)];
          return (
            // biome-ignore lint/a11y/noStaticElementInteractions: the figures have a button for each
            <g key={b.at} onClick={open && (() => open(b.at))} className={open ? "cursor-pointer" : ""}>
              <title>
                {name(b.at)}: {count(b.served)} served, {count(b.held)} held, {count(b.refused)} refused
              </title>
              <rect x={x(b.at)} width={wide} y={10} height={H - FOOT - 10} fill="transparent" />
              <rect
                x={x(b.at)}
                width={wide}
                y={y(0) - served}
                height={served}
                fill="var(--color-kelp)"
                opacity="0.78"
              />
              {b.held > 0 && (
                <rect
                  x={(x(b.at) ?? 0) + 0.75}
                  width={Math.max(1, wide - 1.5)}
                  y={y(0) - served - held}
                  height={held}
                  fill="none"
                  stroke="var(--color-dusk)"
                  strokeWidth="1.5"
                />
              )}
              {b.refused > 0 && (
                <rect
                  x={x(b.at)}
                  width={wide}
                  y={y(0) - served - held - high(b.refused) - 1}
                  height={Math.max(1.5, high(b.refused))}
                  fill="var(--color-madder)"
                />
              )}
              {i % every === 0 && (
                <text x={x(b.at)} y={H - 4} fill="var(--color-soft)">
                  {name(b.at)}
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
