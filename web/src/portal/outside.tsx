import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { outsideSignIns, STALE } from "../api/queries/portal";
import { Trouble, WordButton } from "../kit/controls";
import { Line } from "../kit/fields";
import { Form, Refused, Send, useEntry } from "../kit/form";
import { dayAndYear } from "../kit/format";
import { CameBack, SignInThrough } from "../kit/outside";
import { useEntered } from "./entered";
import { useMe } from "./me";

type Entered = Portal["Entered"];

/** The way to the portal's outside provider, where it has one. */
export function SignInHere() {
  return (
    <SignInThrough provider={useMe().look.signs_in_through} begin={() => api.post("/session/outside", {})} />
  );
}

/** Where the provider sends people back to, with its answer. */
export function SignedIn() {
  const [search] = useSearchParams();
  const entered = useEntered();
  const { signs_in_through: provider } = useMe().look;
  const [came, setCame] = useState<Entered | null>(null);
  return (
    <div className="mx-auto max-w-[420px] pt-6">
      {came ? (
        <Account state={search.get("state") ?? ""} came={came} />
      ) : (
        <CameBack
          provider={provider}
          take={(body) => api.post("/session/outside/answer", { body })}
          show={(body) => api.post("/session/outside/code", { body })}
          done={(answer) => (answer.entered ? entered() : setCame(answer))}
          begin="/sign-in"
        />
      )}
    </div>
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
