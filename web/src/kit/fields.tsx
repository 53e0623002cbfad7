import { Choose, Several } from "./choose";
import { Field, Refusal } from "./controls";
import { useField } from "./form";

type LineProps<T> = Omit<Parameters<typeof Field>[0], "value" | "onChange" | "error" | "ref"> & {
  name: string;
  /** What is kept of what is typed, where it is no text. */
  kept?: (text: string) => T;
};

/** A line or, with `area`, a few. */
export function Line<T = string>({ name, kept, ...rest }: LineProps<T>) {
  const { value, onChange, ...field } = useField<T>(name);
  return (
    <Field
      {...rest}
      {...field}
      value={String(value ?? "")}
      onChange={(text) => onChange(kept ? kept(text) : (text as T))}
    />
  );
}

const FILE =
  "mt-1 block text-ink file:mr-3 file:cursor-pointer file:rounded file:border file:border-line file:bg-sheet file:px-3 file:py-1 file:text-[13px]";

/** A longer text, from a file or pasted; `onName` is told the file's name, or nothing for what is pasted. */
export function TextFile({
  name,
  accept,
  label,
  height,
  shows = (text) => text,
  onName,
}: {
  name: string;
  accept: string;
  label: string;
  height: string;
  shows?: (text: string) => string;
  onName?: (name: string) => void;
}) {
  const { ref, value, onChange, error } = useField<string>(name);
  const take = async (file: File | undefined) => {
    if (!file) return;
    onName?.(file.name);
    onChange(await file.text());
  };
  return (
    <>
      <label className="mb-3 block text-[13px] text-soft">
        From a file
        <input type="file" accept={accept} className={FILE} onChange={(e) => take(e.target.files?.[0])} />
      </label>
      <label className="mb-3 block text-[13px] text-soft">
        {label}
        <textarea
          ref={ref}
          className={`field mt-1 ${height} rounded border border-line p-2 font-mono text-[12px] text-ink`}
          spellCheck={false}
          aria-invalid={error ? true : undefined}
          value={shows(value)}
          onChange={(e) => {
            onChange(e.target.value);
            onName?.("");
          }}
        />
      </label>
      {error && <Refusal>{error}</Refusal>}
    </>
  );
}

/** A file as it stands on the disk, of any size. */
export function OneFile({ name, accept, label }: { name: string; accept: string; label: string }) {
  const { ref, onChange, error } = useField<File | null>(name);
  return (
    <>
      <label className="mb-3 block text-[13px] text-soft">
        {label}
        <input
          ref={ref}
          type="file"
          accept={accept}
          className={FILE}
          onChange={(e) => onChange(e.target.files?.[0] ?? null)}
        />
      </label>
      {error && <Refusal>{error}</Refusal>}
    </>
  );
}

/** The digits of what is typed, as a number. */
export const digits = (text: string) => Number(text.replace(/\D/g, ""));

type ChoiceProps<T extends string> = Omit<Parameters<typeof Choose<T>>[0], "value" | "onChange"> & {
  name: string;
};

/** One of a few. */
export function Choice<T extends string>({ name, ...rest }: ChoiceProps<T>) {
  return <Choose {...rest} {...useField<T>(name)} />;
}

type ChoicesProps<T extends string | number> = Omit<
  Parameters<typeof Several<T>>[0],
  "chosen" | "onChange"
> & {
  name: string;
};

/** Several of a list. */
export function Choices<T extends string | number>({ name, ...rest }: ChoicesProps<T>) {
  const { value, ref, ...field } = useField<T[]>(name);
  return <Several {...rest} {...field} chosen={value} />;
}

/** One of a few, each of which is read before choosing. */
export function Radios<T extends string>({
  name,
  choices,
}: {
  name: string;
  choices: readonly (readonly [T, string])[];
}) {
  const { value, onChange, error } = useField<T>(name);
  return (
    <>
      {choices.map(([choice, words]) => (
        <label key={choice} className="flex items-baseline gap-2 py-1">
          <input
            type="radio"
            name={name}
            className="accent-(--color-kelp)"
            checked={value === choice}
            onChange={() => onChange(choice)}
          />
          {words}
        </label>
      ))}
      {error && <Refusal>{error}</Refusal>}
    </>
  );
}

/** Something that is so or not. */
export function Tick({
  name,
  className = "py-2",
  children,
}: {
  name: string;
  className?: string;
  children: React.ReactNode;
}) {
  const { ref, value, onChange, error } = useField<boolean>(name);
  return (
    <label className={`flex flex-wrap items-baseline gap-x-2 ${className}`}>
      <input
        ref={ref}
        type="checkbox"
        className="accent-(--portal-main,var(--color-kelp))"
        checked={value}
        aria-invalid={error ? true : undefined}
        onChange={(e) => onChange(e.target.checked)}
      />
      <span className="flex-1">{children}</span>
      {error && <Refusal>{error}</Refusal>}
    </label>
  );
}

/** A field with a control of its own. */
export function Own<T>({
  name,
  children,
}: {
  name: string;
  children: (field: { value: T; onChange: (value: T) => void; error?: string }) => React.ReactNode;
}) {
  const { ref, ...field } = useField<T>(name);
  return children(field);
}
