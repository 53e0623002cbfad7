import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { applications, product as ofProduct, STALE } from "../api/queries/portal";
import { Button, Dialog, Field, Trouble, Waiting } from "../kit/controls";
import { amount, count, dayAndYear } from "../kit/format";
import { Prose } from "../kit/prose";
import { useMe } from "./app";

const WHO_DECIDES: Record<string, string> = {
  reviewed: "A person decides, usually within a working day.",
  "reviewed twice": "Two people decide, usually within two working days.",
  outside: "It is decided at the ticket desk.",
};

type Product = Portal["Storefront"];
type Offer = Portal["Offer"];
const STEPS = 1000;
const TOP = 1_000_000;
const unitsAt = (step: number) =>
  step === 0 ? 0 : niceUnits(10 ** (1 + (step / STEPS) * (Math.log10(TOP) - 1)));
const stepAt = (units: number) =>
  units <= 10 ? 0 : Math.round(((Math.log10(units) - 1) / (Math.log10(TOP) - 1)) * STEPS);

function niceUnits(value: number): number {
  const scale = 10 ** Math.max(0, Math.floor(Math.log10(value)) - 1);
  return Math.round(value / scale) * scale;
}

export function ProductPage() {
  const { slug = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const me = useMe();
  const units = Number(search.get("units") ?? 10_000);
  const [choosing, setChoosing] = useState<Offer | null>(null);
  const query = useQuery(ofProduct(slug, units));
  const p = query.data;
  if (!p) return query.error ? <Trouble error={query.error} /> : <Waiting words="Fetching the plans" />;
  const operations = search.get("view") === "operations";
  const view = (name: string | null) => {
    const next = new URLSearchParams(search);
    if (name) next.set("view", name);
    else next.delete("view");
    setSearch(next, { replace: true });
  };
  const tab = (on: boolean) =>
    `pb-1.5 ${on ? "border-b-2 border-(--portal-main) font-semibold" : "hover:underline"}`;
  return (
    <>
      <h1 className="text-[38px]">{p.name}</h1>
      <div className="mt-1 max-w-[76ch] text-[#3D4A4F]">
        <Prose html={p.description_html} />
        <Prose html={p.contact_html} />
      </div>
      <div className="mt-4 mb-6 flex gap-5 text-[14px]">
        <button
          type="button"
          aria-pressed={!operations}
          className={tab(!operations)}
          onClick={() => view(null)}
        >
          Plans
        </button>
        <button
          type="button"
          aria-pressed={operations}
          className={tab(operations)}
          onClick={() => view("operations")}
        >
          Operations
        </button>
      </div>
      {operations ? (
        <Operations product={p} gateway={me.look.gateway} />
      ) : (
        <>
          {p.meter && (
            <Estimator
              meter={p.meter}
              units={units}
              onChange={(n) => {
                const next = new URLSearchParams(search);
                next.set("units", String(n));
                setSearch(next, { replace: true });
              }}
            />
          )}
          <div
            className="grid border-t border-[#D5DEE4]"
            style={{ gridTemplateColumns: "repeat(auto-fit, minmax(260px, 1fr))" }}
          >
            {p.offers.map((offer) => (
              <OfferColumn
                key={offer.plan_id}
                offer={offer}
                product={p}
                onChoose={() => setChoosing(offer)}
              />
            ))}
          </div>
        </>
      )}
      {choosing && <Subscribe product={p} offer={choosing} onClose={() => setChoosing(null)} />}
    </>
  );
}

function Estimator({
  meter,
  units,
  onChange,
}: {
  meter: string;
  units: number;
  onChange: (units: number) => void;
}) {
  return (
    <div className="mb-4 flex flex-wrap items-center gap-x-10 gap-y-3 bg-[#F1F5F9] px-6 py-5">
      <label className="flex flex-wrap items-baseline gap-1.5">
        About
        <input
          inputMode="numeric"
          aria-label={`${meter} a month`}
          className="w-[9ch] border-b border-dashed border-(--portal-main) bg-transparent text-center font-semibold"
          value={count(units)}
          onChange={(e) => {
            const n = Number(e.target.value.replace(/\D/g, ""));
            if (Number.isSafeInteger(n) && n <= 1e9) onChange(n);
          }}
        />
        {meter.toLowerCase()} a month
      </label>
      <input
        type="range"
        aria-label={`${meter} a month, on a scale`}
        aria-valuetext={count(units)}
        min={0}
        max={STEPS}
        value={stepAt(units)}
        onChange={(e) => onChange(unitsAt(Number(e.target.value)))}
        className="min-w-[220px] flex-1 accent-(--portal-main)"
      />
    </div>
  );
}

function OfferColumn({ offer, product, onChoose }: { offer: Offer; product: Product; onChoose: () => void }) {
  return (
    <section
      aria-label={offer.name}
      className="border-[#D5DEE4] px-6 pt-5 pb-6 not-first:border-l first:pl-0"
    >
      <h2 className="text-[22px]">{offer.name}</h2>
      {offer.estimate === null ? (
        <>
          <p className="mt-1 font-serif text-[22px] text-madder">does not reach</p>
          <p className="text-[13px] text-soft">
            {count(offer.reaches ?? 0)} of your {count(product.units)}, then refused
          </p>
        </>
      ) : (
        <>
          <p className="mt-1 font-serif text-[30px] leading-tight">
            {amount(offer.estimate)} <span className="text-[16px] text-[#3D4A4F]">a month, before tax</span>
          </p>
          <p className="text-[13px] font-semibold text-(--portal-main)">
            {offer.cheapest ? "Costs least for this use" : "\u00a0"}
          </p>
        </>
      )}
      <ul className="mt-3 mb-4">
        {offer.terms.map((term) => (
          <li key={term} className="border-b border-[#E6ECF0] py-1.5 text-[14px]">
            {term}
          </li>
        ))}
      </ul>
      <Button main={offer.cheapest} onClick={onChoose}>
        Choose {offer.name}
      </Button>
    </section>
  );
}

function Operations({ product, gateway }: { product: Product; gateway: string }) {
  const first = product.operations.findLast((o) => o.method === "GET") ?? product.operations.at(-1);
  return (
    <>
      <table className="plain-table max-w-[860px]">
        <thead>
          <tr>
            <th>Operation</th>
            <th>What it gives</th>
          </tr>
        </thead>
        <tbody>
          {product.operations.map((o) => (
            <tr key={o.method + o.path}>
              <td>
                <code className="font-mono text-[13px]">
                  {o.method} {o.url_path}
                </code>
              </td>
              <td>{o.summary}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {first && (
        <>
          <h2 className="mt-6 mb-1.5">A first call</h2>
          <pre className="overflow-x-auto bg-[#F1F5F9] p-3 font-mono text-[13px]">
            {firstCall(product.key_header, gateway, first)}
          </pre>
        </>
      )}
    </>
  );
}

/** A call as it is typed, with a body where its method sends one. */
function firstCall(header: string, gateway: string, of: Product["operations"][number]): string {
  const method = of.method === "GET" ? "" : of.method === "HEAD" ? " --head" : ` -X ${of.method}`;
  const body = ["POST", "PUT", "PATCH"].includes(of.method)
    ? ` -H "Content-Type: application/json" -d '{}'`
    : "";
  const path = of.url_path.replace(/\{[^}]*\}/g, "lm-01");
  return `curl${method} -H "${header}: YOUR_KEY"${body} ${gateway}${path}`;
}

function Subscribe({ product, offer, onClose }: { product: Product; offer: Offer; onClose: () => void }) {
  const me = useMe();
  const stale = useStale();
  const own = useQuery({ ...applications(), refetchInterval: false, enabled: Boolean(me.name) });
  const [application, setApplication] = useState("");
  const [name, setName] = useState("");
  const [purpose, setPurpose] = useState("");
  const [accepted, setAccepted] = useState(false);
  const fresh = application === "new" || own.data?.length === 0;
  const ask = useMutation({
    mutationFn: async () => {
      const id = fresh
        ? (await api.post("/applications", { body: { name, description: "" } })).id
        : Number(application || own.data?.[0]?.id);
      await stale(STALE.application);
      setApplication(String(id));
      return api.post("/requests", {
        body: { application_id: id, plan_id: offer.plan_id, purpose, terms_accepted: accepted },
      });
    },
    onSuccess: () => stale(STALE.request),
  });
  if (!me.name)
    return (
      <Dialog open onClose={onClose} title={`Choose ${offer.name}`}>
        <p>
          To subscribe,{" "}
          <Link className="figure-link" to="/sign-in">
            sign in
          </Link>{" "}
          or{" "}
          <Link className="figure-link" to="/sign-up">
            sign up
          </Link>
          . It takes a minute, and nothing is charged until a plan is granted.
        </p>
      </Dialog>
    );
  if (ask.data)
    return (
      <Dialog
        open
        onClose={onClose}
        title={ask.data.state === "granted" ? "You are in" : "Your request is on the desk"}
      >
        <p>
          {ask.data.application} {ask.data.state === "granted" ? "may now call" : "has asked for"}{" "}
          {product.name} · {offer.name}.
          {ask.data.state === "granted"
            ? " Make a key, and make the first call."
            : ` ${WHO_DECIDES[product.access_route] ?? ""} You are told by mail.`}
        </p>
        <p className="mt-4">
          <Link className="figure-link" to={`/applications/${application}`}>
            Open {ask.data.application}
          </Link>
        </p>
      </Dialog>
    );
  if (own.isPending)
    return (
      <Dialog open onClose={onClose} title={`${product.name} · ${offer.name}`}>
        <Waiting words="Reading your applications" />
      </Dialog>
    );
  return (
    <Dialog open onClose={onClose} title={`${product.name} · ${offer.name}`}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          ask.mutate();
        }}
      >
        {own.data && own.data.length > 0 && (
          <label className="mb-3 block text-[13px] text-soft">
            For the application
            <select
              // biome-ignore lint/a11y/noAutofocus: a dialog begins with its first field
              autoFocus
              className="field text-[15px] text-ink"
              value={application || String(own.data[0]?.id)}
              onChange={(e) => setApplication(e.target.value)}
            >
              {own.data.map((a) => (
                <option key={a.id} value={a.id}>
                  {a.name}
                </option>
              ))}
              <option value="new">a new one</option>
            </select>
          </label>
        )}
        {fresh && (
          <Field
            label="Name of the application"
            required
            autoFocus={!own.data?.length}
            value={name}
            onChange={setName}
          />
        )}
        <Field
          label="What is it for?"
          area
          required
          value={purpose}
          onChange={setPurpose}
          hint="A sentence helps the reviewer decide."
        />
        {product.terms_html && (
          <div className="mb-3 max-h-40 overflow-y-auto border-l-[3px] border-line pl-3 text-[14px]">
            <Prose html={product.terms_html} />
          </div>
        )}
        <label className="mb-3 flex items-baseline gap-2">
          <input
            type="checkbox"
            className="accent-(--portal-main)"
            checked={accepted}
            onChange={(e) => setAccepted(e.target.checked)}
          />
          <span>I accept the terms of use of {dayAndYear(product.terms_dated)}</span>
        </label>
        <Trouble error={ask.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Not now</Button>
          <Button main type="submit" disabled={ask.isPending}>
            {product.access_route === "open" ? "Subscribe" : "Ask for access"}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
