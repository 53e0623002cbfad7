import { useMutation } from "@tanstack/react-query";
import { createContext, useContext, useEffect, useRef, useState } from "react";
import {
  type Control,
  type DefaultValues,
  type FieldValues,
  type UseFormReturn,
  useController,
  useForm,
} from "react-hook-form";
import { Problem, said } from "../api/problem";
import { Button, Trouble } from "./controls";

type How<V extends FieldValues, R> = {
  start: V;
  /** What is kept by the server: the fields take it over whenever it is another. */
  kept?: V;
  send: (typed: V, form: UseFormReturn<V>) => Promise<R>;
  done?: (answer: R, typed: V, form: UseFormReturn<V>) => unknown;
  /** Once it is taken the fields are as they were at the start. */
  afresh?: boolean;
};

/** What is asked of somebody, and what became of it when they sent it. */
export type Entry<V extends FieldValues, R> = {
  form: UseFormReturn<V>;
  send: (typed: V) => void;
  sending: boolean;
  /** What was sent and taken, and what came of it. */
  sent: V | undefined;
  answer: R | undefined;
  /** Why it was refused, and what of that no field here is the place of. */
  error: unknown;
  unplaced: unknown;
  /** As if nothing had been sent. */
  again: () => void;
  /** The names of the fields that are shown. */
  shown: Set<string>;
};

/** What somebody enters, to be sent to the server. What it refuses stands beside the field it is about. */
export function useEntry<V extends FieldValues, R>({
  start,
  kept,
  send,
  done,
  afresh,
}: How<V, R>): Entry<V, R> {
  const form = useForm<V>({ defaultValues: start as DefaultValues<V>, values: kept });
  const shown = useRef(new Set<string>()).current;
  const [unplaced, setUnplaced] = useState<unknown>(null);
  const sending = useMutation({
    mutationFn: (typed: V) => send(typed, form),
    onMutate: () => setUnplaced(null),
    onSuccess: (answer, typed) => {
      if (afresh) form.reset(start);
      return done?.(answer, typed, form);
    },
    onError: (error) => setUnplaced(place(error, form as unknown as UseFormReturn, shown)),
  });
  return {
    form,
    send: sending.mutate,
    sending: sending.isPending,
    sent: sending.isSuccess ? sending.variables : undefined,
    answer: sending.data,
    error: sending.error,
    unplaced,
    again: () => {
      setUnplaced(null);
      sending.reset();
    },
    shown,
  };
}

/** Puts each refusal beside its field and the first of them in focus; what is left over is about none of them. */
function place(error: Error, form: UseFormReturn, shown: Set<string>): Error | null {
  if (!(error instanceof Problem)) return error;
  let left: Error | null = null;
  let first = true;
  for (const refused of error.refusals) {
    const name = fieldOf(refused.where, shown);
    if (name) form.setError(name, { message: said(refused.what) }, { shouldFocus: first });
    else left ??= error.about(refused);
    if (name) first = false;
  }
  return left;
}

/** The shown field that a refused part of what was sent belongs to; places in a list are told as `.1` or as `[1]`. */
function fieldOf(place: string, shown: Set<string>): string | undefined {
  const where = place.replace(/\[(\d+)\]/g, ".$1");
  const near = [...shown].filter(
    (name) => where === name || where.startsWith(`${name}.`) || where.endsWith(`.${name}`),
  );
  return near.sort((a, b) => b.length - a.length)[0];
}

const Asked = createContext<Entry<FieldValues, unknown> | null>(null);

function useAsked() {
  const asked = useContext(Asked);
  if (!asked) throw new Error("a field stands outside its form");
  return asked;
}

/** The one form of every screen: Enter sends it. */
export function Form<V extends FieldValues, R>({
  of,
  className,
  children,
}: {
  of: Entry<V, R>;
  className?: string;
  children: React.ReactNode;
}) {
  return (
    <Asked value={of as unknown as Entry<FieldValues, unknown>}>
      <form
        className={className}
        onSubmit={(event) => {
          event.stopPropagation(); // a dialog's form may stand in a page's
          of.form.clearErrors();
          of.form.handleSubmit((typed) => of.send(typed))(event);
        }}
      >
        {children}
      </form>
    </Asked>
  );
}

/** What stands in the fields of the form around it, as it is typed. */
export function useTyped<V>(): V {
  return useAsked().form.watch() as V;
}

/** One field of the form around it: its value, what changes it, and why it was refused. */
export function useField<T>(name: string) {
  const { form, shown } = useAsked();
  useEffect(() => {
    shown.add(name);
    return () => void shown.delete(name);
  }, [name, shown]);
  const { field, fieldState } = useController({ name, control: form.control as unknown as Control });
  if (field.value === undefined) throw new Error(`the form asks for no ${name}`);
  return {
    ref: field.ref,
    value: field.value as T,
    onChange: (value: T) => {
      form.clearErrors(name);
      field.onChange(value);
    },
    error: fieldState.error?.message,
  };
}

/** What sends the form. */
export function Send({
  main = true,
  disabled,
  ...rest
}: Omit<Parameters<typeof Button>[0], "type" | "onClick">) {
  const { sending } = useAsked();
  return <Button {...rest} main={main} type="submit" disabled={disabled || sending} />;
}

/** What was refused and is about none of the fields. */
export function Refused() {
  return <Trouble error={useAsked().unplaced} />;
}

/** The end of a dialog's form: leave it, or send it. */
export function Ends({
  leave = "Leave it",
  onLeave,
  children,
}: {
  leave?: string;
  onLeave: () => void;
  children: React.ReactNode;
}) {
  return (
    <>
      <Refused />
      <div className="mt-3 flex justify-end gap-2">
        <Button onClick={onLeave}>{leave}</Button>
        {children}
      </div>
    </>
  );
}
