import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../api/console";
import { STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { productsToChoose, sheet } from "../../api/queries/compose";
import { me } from "../../api/queries/house";
import { Choose } from "../../kit/choose";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Choice, Line } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { dayAndMinute, dayAndYear } from "../../kit/format";
import { isOne } from "../roles";

type Consumer = Console["ConsumerView"];
type App = Consumer["applications"][number];
type Key = App["keys"][number];
type Doing = { app: App; key?: Key; what: "key" | "revoke" | "subscribe" };

const HOLDERS = ["product manager", "reviewer", "operations"] as const;
const ADMITTERS = ["product manager", "reviewer"] as const;

/** A consumer's applications with their plans and keys, and what can be done for it. */
export function Applications({ of: c }: { of: Consumer }) {
  const roles = useQuery(me()).data?.roles;
  const [doing, setDoing] = useState<Doing | null>(null);
  const [adding, setAdding] = useState(false);
  const letIn = ["let in", "suspended"].includes(c.line.state);
  const [holds, admits] = [letIn && isOne(roles, HOLDERS), letIn && isOne(roles, ADMITTERS)];
  const close = () => setDoing(null);
  return (
    <>
      {c.applications.length === 0 && <p className="py-2 text-soft">No application is registered yet.</p>}
      {c.applications.map((a) => (
        <div key={a.id} className="border-b border-line-soft py-2.5">
          <b className="font-semibold">{a.name}</b>{" "}
          <span className="text-soft">
            {a.plans.length === 0 && "on no plan"}
            {a.plans.map((p, n) => (
              <span key={`${p.request_id}-${p.subscription_id}`}>
                {n > 0 && "; "}
                {p.product} · {p.plan}, {p.state}
                {["paused", "ended"].includes(p.state) ? ", begun" : " since"} {dayAndYear(p.since)},{" "}
                <Link
                  className="figure-link"
                  to={
                    p.subscription_id
                      ? `/admit/subscriptions/${p.subscription_id}`
                      : `/admit/desk/${p.request_id}`
                  }
                >
                  {p.subscription_id ? "its history" : "the request"}
                </Link>
              </span>
            ))}
          </span>
          <About of={a} />
          {a.keys.length === 0 && <div className="text-[13px] text-soft">no key yet</div>}
          {a.keys.map((k) => (
            <div key={k.id} className="text-[13px] text-soft">
              {k.prefix}… ({k.label}, {k.state}
              {k.used_at ? `, last used ${dayAndMinute(k.used_at)}` : ", not used yet"})
              {holds && ["active", "retiring"].includes(k.state) && (
                <>
                  {" "}
                  <WordButton
                    aria-label={`revoke ${k.label}… of ${a.name}`}
                    onClick={() => setDoing({ app: a, key: k, what: "revoke" })}
                  >
                    revoke {k.label}…
                  </WordButton>
                </>
              )}
            </div>
          ))}
          {(holds || admits) && (
            <div className="mt-1 flex gap-4">
              {holds && (
                <WordButton
                  aria-label={`make a key… for ${a.name}`}
                  onClick={() => setDoing({ app: a, what: "key" })}
                >
                  make a key…
                </WordButton>
              )}
              {admits && (
                <WordButton
                  aria-label={`add a plan… for ${a.name}`}
                  onClick={() => setDoing({ app: a, what: "subscribe" })}
                >
                  add a plan…
                </WordButton>
              )}
            </div>
          )}
        </div>
      ))}
      {admits && (
        <p className="py-2">
          <WordButton onClick={() => setAdding(true)}>register an application…</WordButton>
        </p>
      )}
      {adding && <Register of={c} onClose={() => setAdding(false)} />}
      {doing?.what === "key" && <MakeKey app={doing.app} onClose={close} />}
      {doing?.what === "revoke" && doing.key && <Revoke app={doing.app} of={doing.key} onClose={close} />}
      {doing?.what === "subscribe" && <Subscribe app={doing.app} onClose={close} />}
    </>
  );
}

function About({ of: a }: { of: App }) {
  if (!a.purpose && !a.contact && a.environment !== "sandbox") return null;
  return (
    <div>
      {a.purpose} {a.environment === "sandbox" && "For the sandbox alone. "}
      {a.contact && (
        <span className="text-soft">
          Ask{" "}
          <a className="figure-link" href={`mailto:${a.contact}`}>
            {a.contact}
          </a>
          .
        </span>
      )}
    </div>
  );
}

function Register({ of: c, onClose }: { of: Consumer; onClose: () => void }) {
  const stale = useStale();
  const entry = useEntry({
    start: { name: "", purpose: "" },
    send: (body) =>
      api.post("/consumers/{consumer_id}/applications", {
        params: { path: { consumer_id: c.line.id } },
        body,
      }),
    done: async () => {
      await stale(STALE.consumerMade);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Register an application of ${c.line.name}`}>
      <Form of={entry}>
        <Line name="name" label="Its name" required autoFocus />
        <Line name="purpose" label="What it is for" area />
        <Ends onLeave={onClose}>
          <Send>Register it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function MakeKey({ app, onClose }: { app: App; onClose: () => void }) {
  const stale = useStale();
  const entry = useEntry({
    start: {
      label: "",
      environment: (app.environment === "sandbox" ? "sandbox" : "live") as "live" | "sandbox",
      kind: "key" as "key" | "secret",
    },
    send: (body) =>
      api.post("/applications/{application_id}/keys", { params: { path: { application_id: app.id } }, body }),
    done: () => stale(STALE.consumerMade),
  });
  if (entry.answer)
    return (
      <Dialog open onClose={onClose} title="Hand it over now">
        <p className="mb-2">
          It is shown this once, and sent by no letter. Its members have been told that you made it.
        </p>
        <output data-testid="secret" className="mb-3 block border border-line bg-paper p-2 break-all">
          {entry.answer.secret}
        </output>
        <Button main onClick={onClose}>
          I have handed it over
        </Button>
      </Dialog>
    );
  return (
    <Dialog open onClose={onClose} title={`Make a key for ${app.name}`}>
      <Form of={entry}>
        <Line
          name="label"
          label="Its label"
          required
          autoFocus
          hint="Where it will be, such as the server."
        />
        {app.environment !== "sandbox" && (
          <Choice
            name="environment"
            label="For calls"
            choices={[
              ["live", "live"],
              ["sandbox", "in the sandbox"],
            ]}
          />
        )}
        <Choice
          name="kind"
          label="As"
          choices={[
            ["key", "a key, which alone says who calls"],
            ["secret", "a secret, which goes with the client id"],
          ]}
        />
        <Ends onLeave={onClose}>
          <Send>Make it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function Revoke({ app, of: k, onClose }: { app: App; of: Key; onClose: () => void }) {
  const stale = useStale();
  const entry = useEntry({
    start: { reason: "" },
    send: (body) => api.post("/keys/{key_id}/revocation", { params: { path: { key_id: k.id } }, body }),
    done: async () => {
      await stale(STALE.consumerMade);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Revoke ${k.label} of ${app.name}`}>
      <p className="mb-3">
        Within a second every call with {k.prefix}… is refused, and nothing brings the key back.{" "}
        {k.used_at ? `It was last used ${dayAndMinute(k.used_at)}.` : "It was not used yet."} Those who run
        the application are told by mail, with your reason.
      </p>
      <Form of={entry}>
        <Line name="reason" label="Why, for its members" area required />
        <Ends onLeave={onClose}>
          <Send>Revoke it at once</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function Subscribe({ app, onClose }: { app: App; onClose: () => void }) {
  const stale = useStale();
  const products = useQuery(productsToChoose());
  const [product, setProduct] = useState("");
  const entry = useEntry({
    start: { plan: "", purpose: app.purpose },
    send: ({ plan, purpose }) =>
      api.post("/applications/{application_id}/subscriptions", {
        params: { path: { application_id: app.id } },
        body: { plan_id: Number(plan), purpose, expected: {} },
      }),
    done: () => stale([...STALE.consumerMade, ...STALE.request]),
  });
  if (entry.answer)
    return (
      <Dialog open onClose={onClose} title={app.name}>
        <p className="mb-3">
          {entry.answer.state === "granted"
            ? `It may now call ${entry.answer.product} · ${entry.answer.plan}.`
            : `The request is on its way: ${entry.answer.state}. More than one has a say in it.`}
        </p>
        <Button main onClick={onClose}>
          Good
        </Button>
      </Dialog>
    );
  return (
    <Dialog open onClose={onClose} title={`Add a plan for ${app.name}`}>
      <p className="mb-3 text-soft">
        Who owns the account must have accepted the terms of use: you answer for that. Where two decide, or an
        outside desk does, they still do.
      </p>
      <Trouble error={products.error} />
      {products.isPending && <Waiting words="Reading the products" />}
      <Form of={entry}>
        <Choose
          label="Product"
          value={product}
          choices={[
            ["", "choose one"],
            ...(products.data?.rows ?? []).map((p) => [String(p.id), p.name] as const),
          ]}
          onChange={(value) => {
            setProduct(value);
            entry.form.setValue("plan", "");
          }}
        />
        {product && <Plans of={Number(product)} />}
        <Line name="purpose" label="What for" area required />
        <Ends onLeave={onClose}>
          <Send disabled={!entry.form.watch("plan")}>Subscribe it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function Plans({ of }: { of: number }) {
  const read = useQuery(sheet(of));
  return (
    <>
      <Trouble error={read.error} />
      {read.isPending && <Waiting words="Reading its plans" />}
      {read.data && (
        <Choice
          name="plan"
          label="Plan"
          choices={[
            ["", "choose one"],
            ...read.data.plans
              .filter((plan) => plan.state === "on sale")
              .map((plan) => [String(plan.id), plan.name] as const),
          ]}
        />
      )}
    </>
  );
}
