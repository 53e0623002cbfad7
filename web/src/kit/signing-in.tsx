import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Problem } from "../api/problem";
import { Trouble } from "./controls";
import { Line } from "./fields";
import { Form, Refused, Send, useEntry } from "./form";

/** Address and password. What stands beside the button is the page's own. */
export function Credentials({
  heading,
  enter,
  onEntered,
  children,
}: {
  heading: React.ReactNode;
  enter: (typed: { email: string; password: string; code: string }) => Promise<unknown>;
  onEntered: () => unknown;
  children?: React.ReactNode;
}) {
  const { asked, first } = useCode();
  const entry = useEntry({
    start: { email: "", password: "", code: "" },
    send: (typed) => first(typed, enter),
    done: (entered) => entered && onEntered(),
  });
  return (
    <Form of={entry}>
      {heading}
      <Line name="email" label="E-mail address" type="email" autoComplete="username" required />
      <Line name="password" label="Password" type="password" autoComplete="current-password" required />
      {asked && <Code autoFocus />}
      <Refused />
      <div className="mt-2 flex items-center gap-4">
        <Send>Sign in</Send>
        {children}
      </div>
    </Form>
  );
}

/** A second factor is asked for once the password was right: then the place for its code is shown. */
export function useCode() {
  const [asked, setAsked] = useState(false);
  const first = async <V extends { code: string }>(typed: V, send: (typed: V) => Promise<unknown>) => {
    try {
      await send(typed);
      return true;
    } catch (error) {
      if (!(error instanceof Problem) || error.where !== "code" || asked) throw error;
      setAsked(true);
      return false;
    }
  };
  return { asked, first };
}

/** A code of the second factor. */
export function Code({ name = "code", ...rest }: { name?: string; autoFocus?: boolean }) {
  return (
    <Line
      {...rest}
      name={name}
      label="Code"
      autoComplete="one-time-code"
      required
      hint="The six figures that your program for codes shows, or a recovery code."
    />
  );
}

/** Whoever forgot a password has a letter sent. What is said afterwards is the same for every address. */
export function Forgotten({ ask }: { ask: (email: string) => Promise<unknown> }) {
  const entry = useEntry({ start: { email: "" }, send: ({ email }) => ask(email) });
  return (
    <Form of={entry}>
      <h1 className="mb-4">Set another password</h1>
      {entry.sent ? (
        <LetterSent>
          If <b className="font-semibold">{entry.sent.email}</b> has an account here, a letter is on its way.
          The link in it is good for half an hour, once.
        </LetterSent>
      ) : (
        <>
          <Line
            name="email"
            label="E-mail address of your account"
            type="email"
            autoComplete="username"
            required
            autoFocus
          />
          <Refused />
          <Send className="mt-2">Send me a letter</Send>
        </>
      )}
    </Form>
  );
}

/** Said where a letter has been sent. */
export function LetterSent({ children }: { children: React.ReactNode }) {
  return <p role="status">{children}</p>;
}

/** What a letter's link carries behind the #, which no server is sent. */
export function letterToken(): string {
  return window.location.hash.slice(1);
}

/** Another password, for whoever has the letter. */
export function Reset({
  set,
  onEntered,
}: {
  set: (typed: { token: string; password: string; code: string }) => Promise<unknown>;
  onEntered: () => unknown;
}) {
  const { asked, first } = useCode();
  const entry = useEntry({
    start: { password: "", code: "" },
    send: (typed) => first({ ...typed, token: letterToken() }, set),
    done: (entered) => entered && onEntered(),
  });
  return (
    <Form of={entry}>
      <h1 className="mb-4">Set another password</h1>
      <NewPassword name="password" />
      {asked && <Code autoFocus />}
      <p className="mb-3 text-soft">You are then signed in here, and signed out everywhere else.</p>
      <Refused />
      <Send>Set it</Send>
    </Form>
  );
}

/** A password that is to be. */
export function NewPassword({ name }: { name: string }) {
  return (
    <Line
      name={name}
      label="New password"
      type="password"
      autoComplete="new-password"
      required
      hint="At least 10 characters."
    />
  );
}

const UNCHANGED = { current: "", new: "" };

/** One's own password, changed. */
export function PasswordChange({ change }: { change: (typed: typeof UNCHANGED) => Promise<unknown> }) {
  const entry = useEntry({ start: UNCHANGED, send: change, afresh: true });
  return (
    <Form of={entry} className="max-w-[420px]">
      <Line
        name="current"
        label="Present password"
        type="password"
        autoComplete="current-password"
        required
      />
      <NewPassword name="new" />
      <Refused />
      {entry.sent && <p role="status">It is changed, and you are signed out everywhere else.</p>}
      <Send className="mt-2">Change it</Send>
    </Form>
  );
}

/** In a demo, a button for each of its people. */
export function DemoPeople({
  people,
  enter,
  onEntered,
  note,
}: {
  people: { email: string; name: string; role: string }[];
  enter: (email: string) => Promise<unknown>;
  onEntered: () => unknown;
  note: string;
}) {
  const demo = useMutation({ mutationFn: enter, onSuccess: onEntered });
  if (!people.length) return null;
  return (
    <section>
      <h2 className="mb-3">Or look around as</h2>
      {people.map((one) => (
        <button
          key={one.email}
          type="button"
          onClick={() => demo.mutate(one.email)}
          className="flex w-full justify-between border-b border-line py-2 text-left hover:bg-kelp-tint"
        >
          <span className="font-semibold">{one.name}</span>
          <span className="text-soft">{one.role}</span>
        </button>
      ))}
      <Trouble error={demo.error} />
      <p className="mt-3 text-[13px] text-soft">{note}</p>
    </section>
  );
}
