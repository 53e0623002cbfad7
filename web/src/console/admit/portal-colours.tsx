import { useQuery } from "@tanstack/react-query";
import { contrast } from "../../api/queries/admit";
import { Refusal, WordButton } from "../../kit/controls";
import { useField, useTyped } from "../../kit/form";
import type { Typed } from "./portal-typed";

const WHOLE = /^#[0-9a-f]{6}$/i;

/** A portal's two colours, and whether they can be told apart, said while one chooses. */
export function ColourFields() {
  const { main_colour: main, accent_colour: accent } = useTyped<Typed>();
  const judged = useQuery({ ...contrast(main, accent), enabled: WHOLE.test(main) && WHOLE.test(accent) });
  const of = (field: string) => judged.data?.find((pair) => pair.field === field);
  return (
    <div className="mb-1 grid grid-cols-2 gap-x-4">
      <Colour name="main_colour" label="Main colour" judged={of("main_colour")} />
      <Colour name="accent_colour" label="Accent" judged={of("accent_colour")} />
    </div>
  );
}

type Judged = { ratio: number; least: number; nearest?: string | null };

function Colour({ name, label, judged }: { name: string; label: string; judged?: Judged }) {
  const { ref, value, onChange, error } = useField<string>(name);
  return (
    <div className="mb-3">
      <label className="block text-[13px] text-soft">
        {label}
        <input
          ref={ref}
          className="field text-ink"
          value={value}
          maxLength={7}
          spellCheck={false}
          aria-invalid={error ? true : undefined}
          onChange={(e) => onChange(e.target.value)}
        />
      </label>
      <input
        type="color"
        aria-label={`${label}, from a palette`}
        className="mt-1 h-7 w-full cursor-pointer"
        value={WHOLE.test(value) ? value : "#000000"}
        onChange={(e) => onChange(e.target.value.toUpperCase())}
      />
      {judged && (
        <p className={`mt-0.5 text-[12px] ${judged.nearest ? "text-madder" : "text-soft"}`}>
          {judged.ratio.toFixed(2)} to 1, {judged.nearest ? "too little" : "enough"}: {judged.least} is the
          least
          {judged.nearest && (
            <>
              .{" "}
              <WordButton className="text-[12px]" onClick={() => onChange(judged.nearest ?? value)}>
                Take {judged.nearest}
              </WordButton>
            </>
          )}
        </p>
      )}
      {error && <Refusal>{error}</Refusal>}
    </div>
  );
}
