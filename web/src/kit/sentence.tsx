import { useEffect, useRef, useState } from "react";

export type Part = {
  text: string;
  field: string;
  input: string;
  value: string;
  choices: [string, string][];
  changed?: boolean;
};

type Props = { parts: Part[]; onChange?: (field: string, value: string, input: string) => void };

/** A rule as a sentence: each emphasised word is edited in place. Without `onChange` it is only read. */
export function Sentence({ parts, onChange }: Props) {
  return (
    <span>
      {parts.map((part, place) =>
        part.field ? (
          // biome-ignore lint/suspicious/noArrayIndexKey: a part is its place in the sentence
          <Word key={place} part={part} onChange={onChange} />
        ) : (
          // biome-ignore lint/suspicious/noArrayIndexKey: a part is its place in the sentence
          <span key={place}>{part.text}</span>
        ),
      )}
    </span>
  );
}

function Word({ part, onChange }: { part: Part; onChange?: Props["onChange"] }) {
  const [editing, setEditing] = useState(false);
  const back = useRef<HTMLButtonElement>(null);
  const look = part.changed ? "text-brass border-brass" : "text-ink border-kelp/50";
  if (!onChange) return <b className={`font-semibold ${part.changed ? "text-brass" : ""}`}>{part.text}</b>;
  const close = (value?: string) => {
    setEditing(false);
    if (value !== undefined && value !== part.value) onChange(part.field, value, part.input);
    requestAnimationFrame(() => back.current?.focus());
  };
  if (editing) return <Editor part={part} onDone={close} />;
  return (
    <button
      ref={back}
      type="button"
      data-field={part.field}
      aria-label={`${part.text}, change`}
      onClick={() => setEditing(true)}
      className={`border-b border-dashed font-semibold hover:bg-kelp-tint ${look}`}
    >
      {part.text}
    </button>
  );
}

function Editor({ part, onDone }: { part: Part; onDone: (value?: string) => void }) {
  const [value, setValue] = useState(part.value);
  // With the pointer a choice is made at once; with keys one moves through the choices first.
  const byKey = useRef(false);
  const ref = useRef<HTMLInputElement & HTMLSelectElement>(null);
  useEffect(() => {
    ref.current?.focus();
    ref.current?.select?.();
  }, []);
  const keys = (event: React.KeyboardEvent) => {
    event.stopPropagation();
    byKey.current = true;
    if (event.key === "Enter") onDone(value.trim());
    if (event.key === "Escape") onDone();
  };
  const carried = part.input === "header" || part.input === "claim";
  const name = carried ? `name of the ${part.input}` : part.field.split(".").at(-1)?.replaceAll("_", " ");
  const look = "rounded-[2px] bg-sheet font-semibold outline-2 outline-offset-2 outline-kelp";
  if (part.input === "choice")
    return (
      <select
        ref={ref}
        aria-label={name}
        className={look}
        value={value}
        onChange={(e) => {
          setValue(e.target.value);
          if (!byKey.current) onDone(e.target.value);
        }}
        onPointerDown={() => {
          byKey.current = false;
        }}
        onKeyDown={keys}
        onBlur={() => onDone(value)}
      >
        {part.choices.map(([choice, words]) => (
          <option key={choice} value={choice}>
            {words}
          </option>
        ))}
      </select>
    );
  return (
    <input
      ref={ref}
      aria-label={name}
      inputMode={carried ? "text" : "decimal"}
      className={look}
      style={{ width: `${Math.max(4, value.length + 2)}ch` }}
      value={value}
      onChange={(e) => setValue(e.target.value)}
      onKeyDown={keys}
      onBlur={() => onDone(value.trim())}
    />
  );
}
