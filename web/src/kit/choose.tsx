import { Refusal } from "./controls";

/** A choice of one from a few, as a labelled select. */
export function Choose<T extends string>({
  label,
  value,
  choices,
  onChange,
  error,
  quiet,
  className = "",
  ...rest
}: {
  label: string;
  value: T;
  choices: readonly (readonly [T, string])[];
  onChange: (value: T) => void;
  error?: string;
  /** Its label is for screen readers alone, and nothing stands around it. */
  quiet?: boolean;
  className?: string;
  autoFocus?: boolean;
  ref?: React.Ref<HTMLSelectElement>;
}) {
  return (
    <label className={`${quiet ? "" : "mb-3"} block text-[13px] text-soft ${className}`}>
      {quiet ? <span className="sr-only">{label}</span> : label}
      <select
        {...rest}
        className="field text-ink"
        value={value}
        aria-invalid={error ? true : undefined}
        onChange={(e) => onChange(e.target.value as T)}
      >
        {choices.map(([choice, words]) => (
          <option key={choice} value={choice}>
            {words}
          </option>
        ))}
      </select>
      {error && <Refusal>{error}</Refusal>}
    </label>
  );
}

/** Several of a list, as check boxes; nothing chosen means what `none` says. */
export function Several<T extends string | number>({
  label,
  chosen,
  choices,
  none,
  disabled,
  error,
  onChange,
}: {
  label: string;
  chosen: T[];
  choices: readonly (readonly [T, string])[];
  none: string;
  disabled?: boolean;
  error?: string;
  onChange: (chosen: T[]) => void;
}) {
  const toggle = (value: T) =>
    onChange(chosen.includes(value) ? chosen.filter((one) => one !== value) : [...chosen, value]);
  return (
    <fieldset className="mb-3" disabled={disabled}>
      <legend className="text-[13px] text-soft">{label}</legend>
      <div className="flex flex-wrap gap-x-5">
        {choices.map(([value, words]) => (
          <label key={value} className="flex items-baseline gap-2 py-1">
            <input
              type="checkbox"
              className="accent-(--color-kelp)"
              checked={chosen.includes(value)}
              onChange={() => toggle(value)}
            />
            {words}
          </label>
        ))}
      </div>
      {chosen.length === 0 && <p className="text-[12px] text-soft">{none}</p>}
      {error && <Refusal>{error}</Refusal>}
    </fieldset>
  );
}
