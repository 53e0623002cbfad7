import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Field, Trouble } from "./controls";

/** Address and password. What stands beside the button is the page's own. */
export function Credentials({
  heading,
  enter,
  onEntered,
  children,
}: {
  heading: React.ReactNode;
  enter: (email: string, password: string) => Promise<unknown>;
  onEntered: () => unknown;
  children?: React.ReactNode;
}) {
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useMutation({ mutationFn: () => enter(email, password), onSuccess: onEntered });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        signIn.mutate();
      }}
    >
      {heading}
      <Field
        label="E-mail address"
        type="email"
        autoComplete="username"
        required
        value={email}
        onChange={setEmail}
      />
      <Field
        label="Password"
        type="password"
        autoComplete="current-password"
        required
        value={password}
        onChange={setPassword}
      />
      <Trouble error={signIn.error} />
      <div className="mt-2 flex items-center gap-4">
        <Button main type="submit" disabled={signIn.isPending}>
          Sign in
        </Button>
        {children}
      </div>
    </form>
  );
}

/** Whoever forgot a password has a letter sent. What is said afterwards is the same for every address. */
export function Forgotten({ ask }: { ask: (email: string) => Promise<unknown> }) {
  const [email, setEmail] = useState("");
  const forgotten = useMutation({ mutationFn: () => ask(email) });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        forgotten.mutate();
      }}
    >
      <h1 className="mb-4">Set another password</h1>
      {forgotten.isSuccess ? (
        <LetterSent>
          If <b className="font-semibold">{email}</b> has an account here, a letter is on its way. The link in
          it is good for half an hour, once.
        </LetterSent>
      ) : (
        <>
          <Field
            label="E-mail address of your account"
            type="email"
            autoComplete="username"
            required
            autoFocus
            value={email}
            onChange={setEmail}
          />
          <Trouble error={forgotten.error} />
          <Button main type="submit" disabled={forgotten.isPending} className="mt-2">
            Send me a letter
          </Button>
        </>
      )}
    </form>
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
  set: (token: string, password: string) => Promise<unknown>;
  onEntered: () => unknown;
}) {
  const [password, setPassword] = useState("");
  const reset = useMutation({
    mutationFn: () => set(letterToken(), password),
    onSuccess: onEntered,
  });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        reset.mutate();
      }}
    >
      <h1 className="mb-4">Set another password</h1>
      <NewPassword value={password} onChange={setPassword} />
      <p className="mb-3 text-soft">You are then signed in here, and signed out everywhere else.</p>
      <Trouble error={reset.error} />
      <Button main type="submit" disabled={reset.isPending}>
        Set it
      </Button>
    </form>
  );
}

/** A password that is to be. */
export function NewPassword({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  return (
    <Field
      label="New password"
      type="password"
      autoComplete="new-password"
      required
      value={value}
      onChange={onChange}
      hint="At least 10 characters."
    />
  );
}

/** One's own password, changed. */
export function PasswordChange({ change }: { change: (current: string, next: string) => Promise<unknown> }) {
  const [current, setCurrent] = useState("");
  const [next, setNext] = useState("");
  const save = useMutation({
    mutationFn: () => change(current, next),
    onSuccess: () => {
      setCurrent("");
      setNext("");
    },
  });
  return (
    <form
      className="max-w-[420px]"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <Field
        label="Present password"
        type="password"
        autoComplete="current-password"
        required
        value={current}
        onChange={setCurrent}
      />
      <NewPassword value={next} onChange={setNext} />
      <Trouble error={save.error} />
      {save.isSuccess && <p role="status">It is changed, and you are signed out everywhere else.</p>}
      <Button main type="submit" disabled={save.isPending} className="mt-2">
        Change it
      </Button>
    </form>
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
