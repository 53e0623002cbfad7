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
