import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { allowances, applications, STALE, termsToAccept } from "../api/queries/portal";
import { Button, Trouble, Waiting, WordButton } from "../kit/controls";
import { dayAndMinute, dayAndYear, plural } from "../kit/format";
import { AllowanceGauge } from "../kit/gauge";
import { Prose } from "../kit/prose";
import { ApplicationForm, WhatItIs } from "./application-form";
import { Keys } from "./keys";
import { useMe } from "./me";
import { Tags } from "./tags";

type App = Portal["ApplicationView"];

const useApplications = () => useQuery(applications());

export function Applications() {
  const list = useApplications();
  const navigate = useNavigate();
  const me = useMe();
  const [adding, setAdding] = useState(false);
  return (
    <>
      <div className="flex items-baseline justify-between gap-4">
        <h1>My applications</h1>
        {me.may.includes("run applications") && (
          <Button main onClick={() => setAdding(true)}>
            Register an application
          </Button>
        )}
      </div>
      <TermsToAccept />
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Fetching your applications" />}
      {list.data?.length === 0 && (
        <p className="mt-4 text-soft">
          An application is a program of yours that makes calls. Register one here, or{" "}
          <Link className="figure-link" to="/">
            choose a plan
          </Link>{" "}
          first.
        </p>
      )}
      {list.data?.map((a) => (
        <section
          key={a.id}
          className="grid gap-x-12 gap-y-2 border-b border-(--portal-line) py-4 md:grid-cols-[1fr_420px]"
        >
          <div>
            <h2 className="text-[20px]">
              <Link className="hover:underline" to={`/applications/${a.id}`}>
                {a.name}
              </Link>
            </h2>
            <p className="text-soft">
              {a.plans.map((p) => `${p.product} · ${p.plan}: ${p.state}`).join("; ") || "on no plan yet"} ·{" "}
              {me.may.includes("see credentials")
                ? plural(a.keys.filter((k) => k.state === "active").length, "active key")
                : `registered ${dayAndYear(a.created_at)}`}
            </p>
            <LastCall of={a} />
          </div>
          <NearestToSpent of={a} />
        </section>
      ))}
      {adding && (
        <ApplicationForm
          onClose={() => setAdding(false)}
          onDone={(made) => navigate(`/applications/${made.id}`)}
        />
      )}
    </>
  );
}

/** When the application last called, by the key that did so last. */
function LastCall({ of: app }: { of: App }) {
  const last = app.keys
    .map((key) => key.used_at ?? "")
    .sort()
    .at(-1);
  return app.keys.length > 0 ? (
    <p className="text-[13px] text-soft">
      {last ? `Last called ${dayAndMinute(last)}` : "Has not called yet"}
    </p>
  ) : null;
}

/** Of the application's allowances the one of which most is used. */
function NearestToSpent({ of: app }: { of: App }) {
  const subscriptions = app.plans.map((p) => p.subscription_id);
  const [most] = (useQuery(allowances()).data ?? [])
    .filter((g) => subscriptions.includes(g.subscription_id))
    .sort((a, b) => Number(b.used) / Number(b.units) - Number(a.used) / Number(a.units));
  return most ? (
    <div className="text-[13px]">
      <div className="mb-1">
        {most.name}: <span className="text-soft">{most.sentence}</span>
      </div>
      <AllowanceGauge of={most} />
    </div>
  ) : null;
}

export function ApplicationPage() {
  const { id } = useParams();
  const me = useMe();
  const list = useApplications();
  const gauges = useQuery(allowances());
  const [changing, setChanging] = useState(false);
  const app = list.data?.find((a) => a.id === Number(id));
  if (!app)
    return list.data ? (
      <>
        <h1>No such application</h1>
        <p className="mt-2">
          <Link className="figure-link" to="/applications">
            My applications
          </Link>
        </p>
      </>
    ) : (
      <Waiting words="Fetching the application" />
    );
  const subscriptions = app.plans.map((p) => p.subscription_id);
  return (
    <>
      <h1>{app.name}</h1>
      <WhatItIs
        app={app}
        onChange={me.may.includes("run applications") ? () => setChanging(true) : undefined}
      />
      {changing && (
        <ApplicationForm app={app} onClose={() => setChanging(false)} onDone={() => setChanging(false)} />
      )}
      <Plans app={app} />
      {gauges.data
        ?.filter((g) => subscriptions.includes(g.subscription_id))
        .map((g) => (
          <div key={g.subscription_id + g.name} className="mt-4 max-w-[620px]">
            <div className="mb-1">
              {g.name}: <span className="text-soft">{g.sentence}</span>
            </div>
            <AllowanceGauge of={g} />
          </div>
        ))}
      {me.may.includes("run applications") ? (
        <>
          <Keys app={app} />
          <Tags app={app} />
        </>
      ) : (
        <p className="mt-8 text-soft">
          {me.closed
            ? "Its keys are good no more."
            : `Its keys are for owners and developers of ${me.consumer}.`}
        </p>
      )}
    </>
  );
}

function Plans({ app }: { app: App }) {
  const me = useMe();
  const stale = useStale();
  const takeBack = useMutation({
    mutationFn: (request: number) =>
      api.delete("/requests/{request_id}", { params: { path: { request_id: request } } }),
    onSuccess: () => stale(STALE.request),
  });
  return (
    <section className="mt-4">
      {app.plans.length === 0 && (
        <p className="text-soft">
          On no plan yet.{" "}
          <Link className="figure-link" to="/">
            Compare the plans
          </Link>{" "}
          and choose one for it.
        </p>
      )}
      {app.plans.map((p) => (
        <p key={`${p.request_id}-${p.subscription_id}`} className="border-b border-(--portal-line-soft) py-2">
          <b className="font-semibold">
            {p.product} · {p.plan}
          </b>
          : {PLAN_WORDS[p.state] ?? p.state} since {dayAndYear(p.since)}.
          {p.note && <span className="text-soft"> The reviewer writes: “{p.note}”</span>}
          {p.subscription_id && (
            <>
              {" "}
              <Link className="figure-link" to={`/subscriptions/${p.subscription_id}`}>
                {p.state === "ended" || !me.may.includes("move subscriptions")
                  ? "how it stands"
                  : "change, pause or end it"}
              </Link>
            </>
          )}
          {p.request_id && !p.subscription_id && (
            <>
              {" "}
              <Link className="figure-link" to={`/requests/${p.request_id}`}>
                {p.state === "asked back" ? "answer it" : "where it stands"}
              </Link>
            </>
          )}
          {me.may.includes("ask for plans") && UNDECIDED.includes(p.state) && p.request_id && (
            <>
              {" "}
              ·{" "}
              <WordButton onClick={() => takeBack.mutate(p.request_id as number)}>
                take the request back
              </WordButton>
            </>
          )}
        </p>
      ))}
      <Trouble error={takeBack.error} />
    </section>
  );
}

/** New terms of use of what one is subscribed to, to be read and accepted. */
function TermsToAccept() {
  const stale = useStale();
  const me = useMe();
  const list = useQuery(termsToAccept());
  const accept = useMutation({
    mutationFn: (slug: string) => api.post("/products/{slug}/terms", { params: { path: { slug } } }),
    onSuccess: () => stale(STALE.terms),
  });
  return list.data?.map((t) => (
    <section
      key={t.slug}
      aria-label={`New terms of use of ${t.product}`}
      className="my-4 border-l-[3px] border-(--portal-accent) pl-4"
    >
      <p>
        <b className="font-semibold">{t.product} has new terms of use</b>, of {dayAndYear(t.dated)}. Until you
        accept them the old ones hold.
      </p>
      <div className="my-2 max-w-[70ch]">
        <Prose html={t.html} />
      </div>
      <Trouble error={accept.error} />
      {me.may.includes("ask for plans") && (
        <Button main disabled={accept.isPending} onClick={() => accept.mutate(t.slug)}>
          Accept the terms of {t.product}
        </Button>
      )}
    </section>
  ));
}

const UNDECIDED = ["waiting", "asked back", "passed to outside"];

const PLAN_WORDS: Record<string, string> = {
  waiting: "waiting for a decision",
  "asked back": "waiting for your answer",
  active: "active",
  declined: "declined",
  "taken back": "taken back",
  "passed to outside": "passed on to be decided",
  trial: "on trial",
  paused: "paused",
  ended: "ended",
};
