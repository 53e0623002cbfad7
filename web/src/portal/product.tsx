import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Portal } from "../api/portal";
import { applications, product as ofProduct } from "../api/queries/portal";
import { useAddress } from "../kit/address";
import { Button, Dialog, Trouble, Waiting } from "../kit/controls";
import { amount, count } from "../kit/format";
import { Prose } from "../kit/prose";
import { Table } from "../kit/table";
import { Ask } from "./ask";
import { useMe } from "./me";

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
  const { search, change } = useAddress();
  const me = useMe();
  const units = Number(search.get("units") ?? 10_000);
  const [choosing, setChoosing] = useState<Offer | null>(null);
  const query = useQuery(ofProduct(slug, units));
  const p = query.data;
  if (!p) return query.error ? <Trouble error={query.error} /> : <Waiting words="Fetching the plans" />;
  const operations = search.get("view") === "operations";
  const view = (name: string | null) => change({ view: name });
  const tab = (on: boolean) =>
    `pb-1.5 ${on ? "border-b-2 border-(--portal-main) font-semibold" : "hover:underline"}`;
  return (
    <>
      <h1 className="text-[38px]">{p.name}</h1>
      <div className="mt-1 max-w-[76ch] text-(--portal-soft)">
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
            <Estimator meter={p.meter} units={units} onChange={(n) => change({ units: String(n) })} />
          )}
          <div
            className="grid border-t border-(--portal-line)"
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
    <div className="mb-4 flex flex-wrap items-center gap-x-10 gap-y-3 bg-(--portal-tint) px-6 py-5">
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
      className="border-(--portal-line) px-6 pt-5 pb-6 not-first:border-l first:pl-0"
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
            {amount(offer.estimate)}{" "}
            <span className="text-[16px] text-(--portal-soft)">a month, before tax</span>
          </p>
          <p className="text-[13px] font-semibold text-(--portal-main)">
            {offer.cheapest ? "Costs least for this use" : "\u00a0"}
          </p>
        </>
      )}
      <ul className="mt-3 mb-4">
        {offer.terms.map((term) => (
          <li key={term} className="border-b border-(--portal-line-soft) py-1.5 text-[14px]">
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
      <Table
        className="max-w-[860px]"
        rows={product.operations}
        id={(o) => o.method + o.path}
        columns={[
          {
            head: "Operation",
            cell: (o) => (
              <code className="font-mono text-[13px]">
                {o.method} {o.url_path}
              </code>
            ),
          },
          { head: "What it gives", cell: (o) => o.summary },
        ]}
      />
      {first && (
        <>
          <h2 className="mt-6 mb-1.5">A first call</h2>
          <pre className="overflow-x-auto bg-(--portal-tint) p-3 font-mono text-[13px]">
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
  const own = useQuery({ ...applications(), refetchInterval: false, enabled: Boolean(me.name) });
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
  if (own.isPending)
    return (
      <Dialog open onClose={onClose} title={`${product.name} · ${offer.name}`}>
        <Waiting words="Reading your applications" />
      </Dialog>
    );
  return <Ask key={offer.plan_id} product={product} offer={offer} own={own.data ?? []} onClose={onClose} />;
}
