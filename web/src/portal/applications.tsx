import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Portal } from "../api/portal";
import { Choose } from "../kit/choose";
import { Button, Dialog, Field, Trouble, Waiting, WordButton } from "../kit/controls";
import { dayAndYear, plural } from "../kit/format";
import { AllowanceGauge } from "../kit/gauge";
import { NameDialog } from "../kit/name-dialog";
import { Prose } from "../kit/prose";
import { useMe } from "./app";

type App = Portal["ApplicationView"];

const useApplications = () =>
  useQuery({ queryKey: ["applications"], queryFn: () => api.get("/applications"), refetchInterval: 4_000 });

export function Applications() {
  const list = useApplications();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [adding, setAdding] = useState(false);
  const register = useMutation({
    mutationFn: (name: string) => api.post("/applications", { body: { name, description: "" } }),
    onSuccess: async (made) => {
      await queries.invalidateQueries({ queryKey: ["applications"] });
      navigate(`/applications/${made.id}`);
    },
  });
  return (
    <>
      <div className="flex items-baseline justify-between gap-4">
        <h1>My applications</h1>
        <Button main onClick={() => setAdding(true)}>
          Register an application
        </Button>
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
        <section key={a.id} className="border-b border-[#D5DEE4] py-4">
          <h2 className="text-[20px]">
            <Link className="hover:underline" to={`/applications/${a.id}`}>
              {a.name}
            </Link>
          </h2>
          <p className="text-soft">
            {a.plans.map((p) => `${p.product} · ${p.plan}: ${p.state}`).join("; ") || "on no plan yet"} ·{" "}
            {plural(a.keys.filter((k) => k.state === "active").length, "active key")}
          </p>
        </section>
      ))}
      {adding && (
        <NameDialog
          title="Register an application"
          verb="Register it"
          hint="As your own people call it."
          error={register.error}
          pending={register.isPending}
          onClose={() => setAdding(false)}
          onGo={register.mutate}
        />
      )}
    </>
  );
}

export function ApplicationPage() {
  const { id } = useParams();
  const list = useApplications();
  const gauges = useQuery({
    queryKey: ["allowances"],
    queryFn: () => api.get("/allowances"),
    refetchInterval: 3_000,
  });
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
      <Keys app={app} />
      <Tags app={app} />
    </>
  );
}

function Plans({ app }: { app: App }) {
  const queries = useQueryClient();
  const takeBack = useMutation({
    mutationFn: (request: number) =>
      api.delete("/requests/{request_id}", { params: { path: { request_id: request } } }),
    onSuccess: () => queries.invalidateQueries(),
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
        <p key={`${p.request_id}-${p.subscription_id}`} className="border-b border-[#E6ECF0] py-2">
          <b className="font-semibold">
            {p.product} · {p.plan}
          </b>
          : {PLAN_WORDS[p.state] ?? p.state} since {dayAndYear(p.since)}.
          {p.note && <span className="text-soft"> The reviewer writes: “{p.note}”</span>}
          {(p.state === "waiting" || p.state === "passed to outside") && p.request_id && (
            <>
              {" "}
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
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["terms"], queryFn: () => api.get("/terms-to-accept") });
  const accept = useMutation({
    mutationFn: (slug: string) => api.post("/products/{slug}/terms", { params: { path: { slug } } }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["terms"] }),
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
      <Button main disabled={accept.isPending} onClick={() => accept.mutate(t.slug)}>
        Accept the terms of {t.product}
      </Button>
    </section>
  ));
}

const PLAN_WORDS: Record<string, string> = {
  waiting: "waiting for a decision",
  active: "active",
  declined: "declined",
  "taken back": "taken back",
  "passed to outside": "passed on to be decided",
  trial: "on trial",
  ended: "ended",
};

function Keys({ app }: { app: App }) {
  const me = useMe();
  const queries = useQueryClient();
  const [label, setLabel] = useState("");
  const [environment, setEnvironment] = useState<"live" | "sandbox">("live");
  const [kind, setKind] = useState<"key" | "secret">("key");
  const [until, setUntil] = useState("");
  const [revoking, setRevoking] = useState<App["keys"][number] | null>(null);
  const make = useMutation({
    mutationFn: () =>
      api.post("/applications/{application_id}/keys", {
        params: { path: { application_id: app.id } },
        body: {
          label,
          environment,
          kind,
          expires_at: until ? new Date(`${until}T23:59:59`).toISOString() : null,
        },
      }),
    onSuccess: () => {
      setLabel("");
      setUntil("");
      queries.invalidateQueries({ queryKey: ["applications"] });
    },
  });
  const revoke = useMutation({
    mutationFn: (key: number) => api.delete("/keys/{key_id}", { params: { path: { key_id: key } } }),
    onSuccess: () => {
      setRevoking(null);
      queries.invalidateQueries({ queryKey: ["applications"] });
    },
  });
  return (
    <section className="mt-8 max-w-[760px]">
      <h2 className="text-[20px]">Keys and secrets</h2>
      <p className="text-soft">
        A key alone says who calls. A secret goes with the client id{" "}
        <code className="font-mono text-[13px]">{app.client_id}</code>: by HTTP Basic, or for a token from{" "}
        {me.look.token_endpoint}. Each product says which it takes.
      </p>
      {app.keys.length > 0 && (
        <table className="plain-table mt-1">
          <thead>
            <tr>
              <th>Key</th>
              <th>Label</th>
              <th>Calls</th>
              <th>State</th>
              <th>Good until</th>
              <th>Made</th>
              <th>
                <span className="sr-only">Revoke</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {app.keys.map((k) => (
              <tr key={k.id}>
                <td>
                  <code className="font-mono text-[13px]">{k.prefix}…</code>
                </td>
                <td>
                  {k.label}
                  {k.kind === "secret" && <span className="text-soft">, a secret</span>}
                </td>
                <td>{k.environment}</td>
                <td>{k.state}</td>
                <td>{k.expires_at ? dayAndYear(k.expires_at) : "until revoked"}</td>
                <td>{dayAndYear(k.created_at)}</td>
                <td className="number">
                  {k.state === "active" && <WordButton onClick={() => setRevoking(k)}>revoke</WordButton>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <form
        className="mt-3 flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Choose
          label="Make"
          value={kind}
          choices={[
            ["key", "a key"],
            ["secret", "a secret for the client id"],
          ]}
          onChange={setKind}
        />
        <div className="w-44">
          <Field label="Label of a new key" value={label} onChange={setLabel} placeholder="server" />
        </div>
        <Choose
          label="It calls"
          value={environment}
          choices={[
            ["live", "live"],
            ["sandbox", "the sandbox"],
          ]}
          onChange={setEnvironment}
        />
        <div className="w-40">
          <Field label="Good until the end of" type="date" value={until} onChange={setUntil} />
        </div>
        <Button main type="submit" disabled={make.isPending} className="mb-3">
          {kind === "key" ? "Make a key" : "Make a secret"}
        </Button>
      </form>
      <Trouble error={make.error} />
      {make.data && (
        <NewKey
          secret={make.data.secret}
          kind={make.data.key.kind}
          client={app.client_id}
          gateway={me.look.gateway}
          onClose={() => make.reset()}
        />
      )}
      {revoking && (
        <Dialog open onClose={() => setRevoking(null)} title={`Revoke ${revoking.prefix}…`}>
          <p>
            Calls of {app.name} with this key are refused from now on, within a second. It cannot be brought
            back.
          </p>
          <Trouble error={revoke.error} />
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={() => setRevoking(null)}>Keep it</Button>
            <Button main disabled={revoke.isPending} onClick={() => revoke.mutate(revoking.id)}>
              Revoke the key
            </Button>
          </div>
        </Dialog>
      )}
    </section>
  );
}

/** The application's own words, which back ends may be told. */
function Tags({ app }: { app: App }) {
  const queries = useQueryClient();
  const kept = Object.entries(app.tags)
    .map(([name, value]) => `${name}=${value}`)
    .join(", ");
  const [words, setWords] = useState(kept);
  const save = useMutation({
    mutationFn: () =>
      api.put("/applications/{application_id}/tags", {
        params: { path: { application_id: app.id } },
        body: {
          tags: Object.fromEntries(
            words
              .split(",")
              .map((pair) => pair.split("=").map((part) => part.trim()))
              .filter(([name]) => name)
              .map(([name = "", value = ""]) => [name, value]),
          ),
        },
      }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["applications"] }),
  });
  return (
    <form
      className="mt-8 flex max-w-[760px] items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <div className="flex-1">
        <Field
          label="Tags, passed on where an API wants to know who calls"
          placeholder="region=west, ship=17"
          value={words}
          onChange={setWords}
        />
        <Trouble error={save.error} />
      </div>
      <Button type="submit" disabled={save.isPending || words === kept} className="mb-3">
        Save the tags
      </Button>
    </form>
  );
}

function NewKey({
  secret,
  kind,
  client,
  gateway,
  onClose,
}: {
  secret: string;
  kind: string;
  client: string;
  gateway: string;
  onClose: () => void;
}) {
  const [copied, setCopied] = useState(false);
  return (
    <Dialog open onClose={onClose} title={kind === "key" ? "Your new key" : "Your new secret"}>
      <p>It is shown this once. Keep it where your application finds it.</p>
      <p className="my-3 flex items-center gap-3">
        <code data-testid="secret" className="bg-[#F1F5F9] px-2.5 py-1.5 font-mono text-[13px] break-all">
          {secret}
        </code>
        <Button small onClick={() => navigator.clipboard.writeText(secret).then(() => setCopied(true))}>
          {copied ? "Copied" : "Copy"}
        </Button>
      </p>
      <pre className="overflow-x-auto bg-[#F1F5F9] p-3 font-mono text-[12px]">
        {kind === "key"
          ? `curl -H "X-API-Key: ${secret.slice(0, 12)}…" ${gateway}/…`
          : `curl -u "${client}:${secret.slice(0, 12)}…" ${gateway}/…`}
      </pre>
      <div className="mt-4 text-right">
        <Button main onClick={onClose}>
          I have kept it
        </Button>
      </div>
    </Dialog>
  );
}
