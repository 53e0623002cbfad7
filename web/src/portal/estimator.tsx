import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import type { Portal } from "../api/portal";
import { estimate, ownUse } from "../api/queries/portal";
import { Button, Trouble, Waiting } from "../kit/controls";
import { amount, count, month } from "../kit/format";
import { useMe } from "./me";

type Answer = Portal["Estimates"];
type Asked = { use: string[]; at_once?: number; along?: string };

/** What is asked about: as the address says, or as one used it last month, or what is usual. It is kept in the address,
 * so that a link shows the same. */
export function useEstimates(slug: string) {
  const [search, setSearch] = useSearchParams();
  const me = useMe();
  const typed = search.getAll("use");
  const own = useQuery({ ...ownUse(slug), enabled: Boolean(me.name) && me.let_in && typed.length === 0 });
  const used = typed.length === 0 && own.data && own.data.meters.length > 0 ? own.data : null;
  const asked: Asked = {
    use: used ? used.meters.map((m) => `${m.key}:${m.units}`) : typed,
    at_once: Number(search.get("at_once")) || used?.at_once || undefined,
    along: search.get("along") ?? undefined,
  };
  const waits = own.isLoading;
  const query = useQuery({ ...estimate(slug, asked), enabled: !waits, placeholderData: keepPreviousData });
  const answer = query.data;
  const change = (part: { units?: Record<string, string>; at_once?: number; along?: string }) => {
    if (!answer) return;
    // What was typed and is not answered yet stands in the address, and stays.
    const next = new URLSearchParams(window.location.search);
    const typed = Object.fromEntries(next.getAll("use").map((one) => one.split(":") as [string, string]));
    next.delete("use");
    for (const { key, units } of answer.meters)
      next.append("use", `${key}:${part.units?.[key] ?? typed[key] ?? units}`);
    next.set("at_once", String(part.at_once ?? next.get("at_once") ?? answer.at_once));
    next.set("along", part.along ?? next.get("along") ?? answer.along);
    setSearch(next, { replace: true });
  };
  return { answer, error: query.error, month: used?.month, change };
}

export type EstimatesOf = ReturnType<typeof useEstimates>;

/** One's use in a sentence whose figures are typed, and what it comes to. */
export function Use({ estimates, onChoose }: { estimates: EstimatesOf; onChoose: (plan: number) => void }) {
  const { answer, error, change } = estimates;
  if (!answer)
    return (
      <div className="mt-6 min-h-32 bg-(--portal-tint) px-6 py-5">
        {error ? <Trouble error={error} /> : <Waiting words="Working out what it costs" />}
      </div>
    );
  return (
    <section aria-label="What it costs" className="mt-6 min-h-32 bg-(--portal-tint) px-6 py-4">
      <div className="flex flex-wrap items-baseline gap-x-1.5 gap-y-1 text-[16px]">
        {answer.meters.length > 0 && <span>About</span>}
        {answer.meters.map((meter, place) => (
          <span key={meter.key} className="flex items-baseline gap-x-1.5">
            <Figure
              label={`${meter.name} a month`}
              value={meter.units}
              onChange={(units) => change({ units: { [meter.key]: units }, along: meter.key })}
            />
            {meter.name.toLowerCase()}
            {place < answer.meters.length - 2 && ","}
            {place === answer.meters.length - 2 && " and"}
          </span>
        ))}
        {answer.meters.length > 0 && <span>a month, at most</span>}
        {answer.meters.length === 0 && <span>At most</span>}
        <span className="flex items-baseline gap-x-1.5">
          <Figure
            label="calls in one second"
            value={String(answer.at_once)}
            onChange={(n) => change({ at_once: Math.min(1000, Math.max(1, Number(n))) })}
          />
          {answer.at_once === 1 ? "call" : "calls"} in a second
        </span>
      </div>
      {answer.along && <Scale answer={answer} change={change} />}
      <Outcome estimates={estimates} onChoose={onChoose} />
      <Trouble error={error} />
    </section>
  );
}

/** A figure of the sentence, typed in place: what is typed counts as soon as it is a number. */
function Figure({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
}) {
  const [text, setText] = useState<string | null>(null);
  const shown = text ?? count(value);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is typed gives way to what came of it
  useEffect(() => setText(null), [value]);
  return (
    <input
      inputMode="numeric"
      aria-label={label}
      className="border-b border-dashed border-(--portal-main) bg-transparent text-center font-semibold"
      style={{ width: `${Math.max(3, shown.length + 1)}ch` }}
      value={shown}
      onFocus={(e) => e.target.select()}
      onBlur={() => setText(null)}
      onChange={(e) => {
        const digits = e.target.value.replace(/\D/g, "").slice(0, 12);
        setText(digits && count(digits));
        if (digits && Number(digits) !== Number(value)) onChange(String(Number(digits)));
      }}
    />
  );
}

const STEPS = 1000;

/** The meter that curves are over, moved along a scale on which small quantities have room, too. */
function Scale({ answer, change }: { answer: Answer; change: EstimatesOf["change"] }) {
  const meter = answer.meters.find((one) => one.key === answer.along);
  const [moved, setMoved] = useState<number | null>(null);
  if (!meter) return null;
  const top = Math.max(answer.top, 1000);
  const at = (units: number) =>
    units <= 10 ? 0 : Math.round((Math.log10(units / 10) / Math.log10(top / 10)) * STEPS);
  const units = (step: number) => (step === 0 ? 0 : nice(10 * (top / 10) ** (step / STEPS)));
  return (
    <input
      type="range"
      aria-label={`${meter.name} a month, on a scale`}
      aria-valuetext={count(meter.units)}
      min={0}
      max={STEPS}
      value={moved ?? Math.min(STEPS, at(Number(meter.units)))}
      onChange={(e) => {
        setMoved(Number(e.target.value));
        change({ units: { [meter.key]: String(units(Number(e.target.value))) } });
      }}
      onBlur={() => setMoved(null)}
      onPointerUp={() => setMoved(null)}
      className="mt-2 w-full accent-(--portal-main)"
    />
  );
}

/** A quantity of two figures, as people say one. */
function nice(value: number): number {
  const scale = 10 ** Math.max(0, Math.floor(Math.log10(value)) - 1);
  return Math.round(value / scale) * scale;
}

/** Which plan costs least, from where on another does, and how to begin. */
function Outcome({ estimates, onChoose }: { estimates: EstimatesOf; onChoose: (plan: number) => void }) {
  const { answer, month: first } = estimates;
  if (!answer) return null;
  const least = answer.plans.find((plan) => plan.cheapest);
  const meter = answer.meters.find((one) => one.key === answer.along)?.name.toLowerCase();
  const next = answer.plans
    .filter((plan) => plan.cheapest_from !== null)
    .sort((a, b) => Number(a.cheapest_from) - Number(b.cheapest_from))[0];
  return (
    <div className="mt-2 flex flex-wrap items-center gap-x-5 gap-y-2">
      <p className="flex-1 text-[15px]" role="status">
        {least?.charge ? (
          <>
            <b className="font-semibold">{least.plan}</b> costs least:{" "}
            <b className="font-semibold">{Number(least.charge) === 0 ? "nothing" : amount(least.charge)}</b>
            {Number(least.charge) > 0 && " a month, before tax"}
            {least.shortfalls.map((short) => `; ${short}`)}.
          </>
        ) : (
          "No plan reaches so far; each says below what it would refuse."
        )}{" "}
        {next && (
          <span className="text-(--portal-soft)">
            From {count(next.cheapest_from ?? 0)} {meter} on, {next.plan} does.
          </span>
        )}
        {first && <span className="text-(--portal-soft)"> This is your use of {month(first)}.</span>}
      </p>
      {least && (
        <Button main onClick={() => onChoose(least.plan_id)}>
          Begin with {least.plan}
        </Button>
      )}
    </div>
  );
}
