import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { Problem } from "../api/problem";
import { Button, Trouble, Waiting } from "./controls";
import { Form, Refused, Send, useEntry } from "./form";
import { Code } from "./signing-in";

/** The way to an outside provider of identities, where there is one. */
export function SignInThrough({
  provider,
  begin,
}: {
  provider: string;
  begin: () => Promise<{ address: string }>;
}) {
  const going = useMutation({
    mutationFn: begin,
    onSuccess: ({ address }) => window.location.assign(address),
  });
  if (!provider) return null;
  return (
    <div className="mt-6 border-t border-(--portal-line,var(--color-line)) pt-4">
      <Button onClick={() => going.mutate()} disabled={going.isPending || going.isSuccess}>
        Sign in through {provider}
      </Button>
      <Trouble error={going.error} />
    </div>
  );
}

type CameBackProps<T> = {
  provider: string;
  /** What takes the provider's answer, and a code of the second factor. */
  take: (answer: { state: string; code: string }) => Promise<T>;
  show: (factor: { state: string; code: string }) => Promise<T>;
  done: (came: T) => unknown;
  /** Where one begins again. */
  begin: string;
};

/** Where the provider sends people back to, with its answer. */
export function CameBack<T>({ provider, take, show, done, begin }: CameBackProps<T>) {
  const [search] = useSearchParams();
  const state = search.get("state") ?? "";
  const refused = search.get("error");
  const [asked, setAsked] = useState(false);
  const taking = useMutation({
    mutationFn: () => take({ state, code: search.get("code") ?? "" }),
    onSuccess: done,
    onError: (error) => setAsked(error instanceof Problem && error.where === "code"),
  });
  const sent = useRef(false);
  useEffect(() => {
    if (sent.current || refused !== null) return;
    sent.current = true; // an answer is good once
    taking.mutate();
  });
  if (asked) return <Factor show={({ code }) => show({ state, code })} done={done} />;
  if (refused === null && !taking.error) return <Waiting words="Signing you in" />;
  return (
    <>
      <h1 className="mb-4">Not signed in</h1>
      {refused === null ? (
        <Trouble error={taking.error} />
      ) : (
        <p>{provider || "The provider"} has signed nobody in.</p>
      )}
      <p className="mt-3">
        <Link className="figure-link" to={begin}>
          Begin again
        </Link>
      </p>
    </>
  );
}

/** Whoever has a second factor here shows it as ever. */
function Factor<T>({
  show,
  done,
}: {
  show: (typed: { code: string }) => Promise<T>;
  done: (came: T) => unknown;
}) {
  const entry = useEntry({ start: { code: "" }, send: show, done });
  return (
    <Form of={entry}>
      <h1 className="mb-4">Sign in</h1>
      <Code autoFocus />
      <Refused />
      <Send>Go on</Send>
    </Form>
  );
}
