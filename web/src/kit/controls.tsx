import { Dialog as RadixDialog } from "radix-ui";
import { useId } from "react";
import { sentence } from "../api/problem";

type ButtonProps = React.ButtonHTMLAttributes<HTMLButtonElement> & { main?: boolean; small?: boolean };

export function Button({ main, small, className = "", type = "button", ...rest }: ButtonProps) {
  const look = main
    ? "border-kelp bg-kelp text-on-kelp hover:brightness-110"
    : "border-line bg-sheet text-ink hover:border-soft";
  const size = small ? "px-2 py-0.5" : "px-3 py-1.5";
  return (
    <button
      type={type}
      className={`rounded border text-[13px] whitespace-nowrap disabled:opacity-50 ${size} ${look} ${className}`}
      {...rest}
    />
  );
}

/** A button that reads as a word of the text. */
export function WordButton({
  className = "",
  type = "button",
  ...rest
}: React.ButtonHTMLAttributes<HTMLButtonElement>) {
  return <button type={type} className={`figure-link text-[13px] ${className}`} {...rest} />;
}

type FieldProps = {
  label: string;
  value: string;
  onChange: (value: string) => void;
  hint?: string;
  /** Why what stands here was refused. */
  error?: string;
  area?: boolean;
  /** How many lines an area shows. */
  rows?: number;
  /** Its label is for screen readers alone, and nothing stands around it. */
  quiet?: boolean;
  ref?: React.Ref<HTMLInputElement & HTMLTextAreaElement>;
} & Omit<React.InputHTMLAttributes<HTMLInputElement>, "onChange" | "value">;

export function Field({ label, value, onChange, hint, error, area, rows = 3, quiet, ...rest }: FieldProps) {
  const id = useId();
  const told = {
    id,
    value,
    onChange: (e: { target: { value: string } }) => onChange(e.target.value),
    "aria-invalid": error ? true : undefined,
    "aria-describedby": [hint && `${id}-hint`, error && `${id}-error`].filter(Boolean).join(" ") || undefined,
  };
  return (
    <div className={quiet ? "" : "mb-3"}>
      <label htmlFor={id} className={quiet ? "sr-only" : "block text-[13px] text-soft"}>
        {label}
      </label>
      {area ? (
        <textarea {...told} rows={rows} className="field resize-y" ref={rest.ref} required={rest.required} />
      ) : (
        <input {...told} className="field" {...rest} />
      )}
      {hint && (
        <div id={`${id}-hint`} className="mt-0.5 text-[12px] text-soft">
          {hint}
        </div>
      )}
      {error && <Refusal id={`${id}-error`}>{error}</Refusal>}
    </div>
  );
}

/** Why a field was refused, under it. */
export function Refusal({ id, children }: { id?: string; children: string }) {
  return (
    <div id={id} role="alert" className="mt-0.5 text-[13px] text-madder">
      {children}
    </div>
  );
}

/** What went wrong, beside the thing. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null;
  return (
    <p role="alert" className="my-2 border-l-[3px] border-madder pl-2.5 text-madder">
      {sentence(error)}
    </p>
  );
}

/** While something is on its way: words, never a bare spinner. */
export function Waiting({ words }: { words: string }) {
  return <p className="py-6 text-soft">{words} …</p>;
}

export function Note({ children }: { children: React.ReactNode }) {
  return <div className="my-1.5 border-l-[3px] border-brass py-px pl-2.5">{children}</div>;
}

type DialogProps = {
  open: boolean;
  onClose: () => void;
  title: string;
  wide?: boolean;
  children: React.ReactNode;
};

export function Dialog({ open, onClose, title, wide, children }: DialogProps) {
  return (
    <RadixDialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <RadixDialog.Portal>
        <RadixDialog.Overlay className="fixed inset-0 bg-black/25" />
        <RadixDialog.Content
          aria-describedby={undefined}
          className={`fixed top-[9vh] left-1/2 max-h-[84vh] ${wide ? "w-[min(820px,94vw)]" : "w-[min(560px,92vw)]"} -translate-x-1/2 overflow-y-auto rounded-md border border-line bg-sheet p-6 shadow-xl`}
        >
          <RadixDialog.Title className="mb-3 font-serif text-[21px] font-medium">{title}</RadixDialog.Title>
          {children}
        </RadixDialog.Content>
      </RadixDialog.Portal>
    </RadixDialog.Root>
  );
}

export function Kbd({ children }: { children: React.ReactNode }) {
  return (
    <kbd className="rounded-[3px] border border-line bg-sheet px-1.5 font-sans text-[12px] text-soft">
      {children}
    </kbd>
  );
}
