import { count, day } from "./format";

type Props = {
  used: number;
  allowed: number;
  projected?: number;
  before?: number;
  words: React.ReactNode;
  tone?: "kelp" | "madder" | "brass";
  label: string;
};

/** The picture of an allowance: a ruler with ticks, a fill for what is used with a tick where it
 * stood before, a hairline for the projected end. The ruler's end is the allowance: where more is used or
 * projected, a mark stands there, and what goes beyond it is drawn beyond it. */
export function Gauge({ used, allowed, projected, before, words, tone, label }: Props) {
  const top = Math.max(allowed, used, Math.min(projected ?? 0, allowed * 1.5)) || 1;
  const at = (value: number) => `${Math.min(100, (value / top) * 100)}%`;
  const colour = tone ?? (used >= allowed ? "madder" : "kelp");
  const fill = { kelp: "bg-kelp", madder: "bg-madder", brass: "bg-brass" }[colour];
  const beyond = colour === "brass" ? "bg-brass" : "bg-madder";
  return (
    <div>
      <div
        className="relative h-3"
        role="meter"
        aria-label={label}
        aria-valuemin={0}
        aria-valuemax={allowed}
        aria-valuenow={Math.min(used, allowed)}
        aria-valuetext={`${count(used)} of ${count(allowed)}`}
      >
        {Array.from({ length: 11 }, (_, n) => n * 10).map((tick) => (
          <span
            key={tick}
            className="absolute top-0 w-px bg-line"
            style={{ left: at((allowed * tick) / 100), height: tick % 50 ? 6 : 10 }}
          />
        ))}
        <span className="absolute inset-x-0 bottom-0 h-px bg-line" />
        <span
          className={`absolute bottom-0 left-0 h-1 ${fill}`}
          style={{ width: at(Math.min(used, allowed)) }}
        />
        {used > allowed && (
          <span
            className={`absolute bottom-0 h-2 ${beyond}`}
            style={{ left: at(allowed), width: at(used - allowed) }}
          />
        )}
        {top > allowed && (
          <span className="-top-0.5 absolute -bottom-1 w-0.5 bg-ink" style={{ left: at(allowed) }} />
        )}
        {before !== undefined && before < used && (
          <span className="absolute bottom-0 h-2 w-px bg-ink" style={{ left: at(before) }} />
        )}
        {projected !== undefined && projected > used && (
          <span className="absolute -top-0.5 bottom-0 w-px bg-ink" style={{ left: at(projected) }} />
        )}
      </div>
      <div className="mt-1 text-[13px] text-soft">{words}</div>
    </div>
  );
}

type Allowance = {
  used: string;
  units: string;
  percent: number;
  when_spent: string;
  projected_units: string;
  spent_at: string | null;
  window_end: string;
  name: string;
};

/** What is used of an allowance, rounded to what matters of it: never up, since what is not spent must not look so. */
const about = (used: string, units: string) => count(Number(units) < 100 ? used : Math.floor(Number(used)));

/** An allowance's words: "71% used, at this pace spent on the 26th". */
export function gaugeWords(g: Allowance): string {
  const after =
    { refuse: "then refused", charge: "then charged", warn: "then only warned" }[g.when_spent] ?? "";
  const so = `${about(g.used, g.units)} of ${count(g.units)}, ${g.percent}% used`;
  if (g.percent >= 100) return `${so}; spent, ${after} until ${day(g.window_end)}`;
  if (g.spent_at) return `${so}; at this pace spent on ${day(g.spent_at)}, ${after}`;
  return `${so}; at this pace ${count(g.projected_units)} by ${day(g.window_end)}`;
}

export function AllowanceGauge({ of }: { of: Allowance }) {
  return (
    <Gauge
      label={of.name}
      used={Number(of.used)}
      allowed={Number(of.units)}
      projected={Number(of.projected_units)}
      tone={of.when_spent === "charge" && Number(of.used) >= Number(of.units) ? "brass" : undefined}
      words={gaugeWords(of)}
    />
  );
}
