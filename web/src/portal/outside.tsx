import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type Portal } from "../api/portal";
import { Problem } from "../api/problem";
import { useStale } from "../api/queries/asking";
import { outsideSignIns, STALE } from "../api/queries/portal";
import { Button, Trouble, Waiting, WordButton } from "../kit/controls";
import { Line } from "../kit/fields";
import { Form, Refused, Send, useEntry } from "../kit/form";
import { dayAndYear } from "../kit/format";
import { Code } from "../kit/signing-in";
import { useEntered } from "./entered";
import { useMe } from "./me";

type Entered = Portal["Entered"];

/** The way to the portal's outside provider, where it has one. */
export function SignInThrough() {
  const { signs_in_through: provider } = useMe().look;
  const begin = useMutation({
    mutationFn: () => api.post("/session/outside", {}),
    onSuccess: ({ address }) => window.location.assign(address),
  });
  if (!provider) return null;
  return (
    <div className="mt-6 border-t border-(--portal-line) pt-4">
      <Button onClick={() => begin.mutate()} disabled={begin.isPending || begin.isSuccess}>
        Sign in through {provider}
      </Button>
      <Trouble error={begin.error} />
    </div>
  );
}

/** Where the provider sends people back to, with its answer. */
export function SignedIn() {
  const [search] = useSearchParams();
  const entered = useEntered();
  const { signs_in_through: provider } = useMe().look;
  const state = search.get("state") ?? "";
  const refused = search.get("error");
  const [came, setCame] = useState<Entered | null>(null);
  const [asked, setAsked] = useState(false);
  const go = (answer: Entered) => (answer.entered ? entered() : setCame(answer));
  const take = useMutation({
    mutationFn: () =>
      api.post("/session/outside/answer", { body: { state, code: search.get("code") ?? "" } }),
    onSuccess: go,
    onError: (error) => setAsked(error instanceof Problem && error.where === "code"),
  });
  const sent = useRef(false);
  useEffect(() => {
    if (sent.current || refused !== null) return;
    sent.current = true; // an answer is good once
    take.mutate();
  });
  return (
    <div className="mx-auto max-w-[420px] pt-6">
      {came ? (
        <Account state={state} came={came} />
      ) : asked ? (
        <Factor state={state} go={go} />
      ) : refused !== null || take.error ? (
        <>
          <h1 className="mb-4">Not signed in</h1>
          {refused === null ? (
            <Trouble error={take.error} />
          ) : (
            <p>{provider || "The provider"} has signed nobody in.</p>
          )}
          <p className="mt-3">
            <Link className="figure-link" to="/sign-in">
              Begin again
            </Link>
          </p>
        </>
      ) : (
        <Waiting words="Signing you in" />
      )}
    </div>
  );
}

/** Whoever has a second factor here shows it as ever. */
function Factor({ state, go }: { state: string; go: (answer: Entered) => unknown }) {
  const entry = useEntry({
    start: { code: "" },
    send: ({ code }) => api.post("/session/outside/code", { body: { state, code } }),
    done: go,
  });
  return (
    <Form of={entry}>
      <h1 className="mb-4">Sign in</h1>
      <Code autoFocus />
      <Refused />
      <Send>Go on</Send>
    </Form>
  );
}

/** Whoever is not known here yet makes an account. */
function Account({ state, came }: { state: string; came: Entered }) {
  const entered = useEntered();
  const { look } = useMe();
  const entry = useEntry({
    start: { name: came.name, organisation: "" },
    send: (typed) => api.post("/session/outside/account", { body: { ...typed, state } }),
    done: entered,
  });
  return (
    <Form of={entry}>
      <h1 className="mb-4">Your account</h1>
      <p className="mb-4 text-soft">
        {look.signs_in_through} knows you as {came.email}; nobody has an account with this address here. An
        account is your organisation’s: its applications, keys, plans and invoices.
        {!look.at_once && ` ${look.provider} looks at new organisations before they are let in.`}
      </p>
      <Line name="name" label="Your name" autoComplete="name" required />
      <Line name="organisation" label="Your organisation" autoComplete="organization" required />
      <Refused />
      <Send>Make the account</Send>
    </Form>
  );
}

/** Through which providers one signs in, beside the password. */
export function OwnOutside() {
  const stale = useStale();
  const own = useQuery(outsideSignIns());
  const unlink = useMutation({
    mutationFn: (id: number) =>
      api.delete("/outside-sign-ins/{identity_id}", { params: { path: { identity_id: id } } }),
    onSuccess: () => stale(STALE.outside),
  });
  if (!own.data?.length) return <Trouble error={own.error} />;
  return (
    <section aria-label="Through others" className="mt-8 max-w-[640px]">
      <h2 className="mb-1 text-[20px]">Through others</h2>
      {own.data.map((one) => (
        <p key={one.id}>
          You sign in through {one.provider}, since {dayAndYear(one.linked_at)}.{" "}
          <WordButton disabled={unlink.isPending} onClick={() => unlink.mutate(one.id)}>
            no longer
          </WordButton>
        </p>
      ))}
      <p className="text-[13px] text-soft">
        Without a password of your own, have a letter sent to{" "}
        <Link className="figure-link" to="/forgotten">
          set one
        </Link>{" "}
        first.
      </p>
      <Trouble error={unlink.error} />
    </section>
  );
}
