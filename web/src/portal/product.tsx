import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Portal } from "../api/portal";
import { applications, product as ofProduct } from "../api/queries/portal";
import { useAddress } from "../kit/address";
import { Dialog, Trouble, Waiting } from "../kit/controls";
import { dayAndYear, untilWhen } from "../kit/format";
import { Prose } from "../kit/prose";
import { Answering } from "./answering";
import { Ask } from "./ask";
import { GoOnElsewhere } from "./elsewhere";
import { Use, useEstimates } from "./estimator";
import { useMe } from "./me";
import { ReleaseNotes } from "./notes";
import { Operations } from "./operations";
import { Plans } from "./plans";
import { Questions } from "./questions/questions";

type Product = Portal["Storefront"];
export type Offer = Portal["Offer"];

const VIEWS = [
  ["plans", "Plans"],
  ["operations", "Operations"],
  ["notes", "What is new"],
  ["answering", "How it answers"],
  ["questions", "Questions and ratings"],
  ["terms", "Terms of use"],
] as const;

export function ProductPage() {
  const { slug = "" } = useParams();
  const query = useQuery(ofProduct(slug));
  const p = query.data;
  if (!p) return query.error ? <Trouble error={query.error} /> : <Waiting words="Fetching the plans" />;
  return <Shown key={slug} product={p} />;
}

function Shown({ product }: { product: Product }) {
  const { search, change } = useAddress();
  const estimates = useEstimates(product.slug);
  const [choosing, setChoosing] = useState<Offer | null>(null);
  const shown = VIEWS.find(([view]) => view === search.get("view"))?.[0] ?? "plans";
  const choose = (plan: number) => setChoosing(product.offers.find((o) => o.plan_id === plan) ?? null);
  return (
    <>
      <div className="grid gap-x-12 gap-y-5 md:grid-cols-[1fr_minmax(0,440px)]">
        <div>
          <h1 className="text-[38px]">{product.name}</h1>
          <div className="mt-1 max-w-[62ch] text-(--portal-soft)">
            <Prose html={product.description_html} />
            <Prose html={product.contact_html} />
          </div>
          {product.ends.map((end) => (
            <p key={end.version} className="mt-2 border-l-[3px] border-(--portal-accent) pl-2.5">
              {end.version} answers until {untilWhen(end.ends_at)}
              {end.instead ? `; ${end.instead} takes its place.` : "."}
            </p>
          ))}
        </div>
        {product.first_answer && <FirstAnswer of={product.first_answer} />}
      </div>
      <Use estimates={estimates} onChoose={choose} />
      <nav aria-label={product.name} className="mt-6 mb-5 flex flex-wrap gap-x-5 text-[14px]">
        {VIEWS.map(([view, name]) => (
          <button
            key={view}
            type="button"
            aria-pressed={shown === view}
            className={`pb-1.5 ${shown === view ? "border-b-2 border-(--portal-main) font-semibold" : "hover:underline"}`}
            onClick={() => change({ view: view === "plans" ? null : view, question: null })}
          >
            {name}
          </button>
        ))}
      </nav>
      {shown === "plans" && <Plans product={product} estimates={estimates} onChoose={choose} />}
      {shown === "operations" && <Operations product={product} />}
      {shown === "notes" && <ReleaseNotes slug={product.slug} />}
      {shown === "answering" && <Answering slug={product.slug} />}
      {shown === "questions" && <Questions slug={product.slug} name={product.name} />}
      {shown === "terms" && (
        <section className="max-w-[68ch]">
          <p className="mb-2 text-[13px] text-soft">As of {dayAndYear(product.terms_dated)}</p>
          <Prose html={product.terms_html} />
        </section>
      )}
      {choosing && (
        <Subscribe
          product={product}
          offer={choosing}
          meters={estimates.answer?.meters ?? []}
          onClose={() => setChoosing(null)}
        />
      )}
    </>
  );
}

/** What one gets, before any table of plans. */
function FirstAnswer({ of }: { of: NonNullable<Product["first_answer"]> }) {
  return (
    <figure className="min-w-0 self-start bg-(--portal-tint) px-4 py-3">
      <figcaption className="mb-1.5 text-[13px]">
        <code className="font-mono break-all">
          {of.method} {of.url_path}
        </code>
        <span className="text-(--portal-soft)"> answers, for instance</span>
      </figcaption>
      <pre
        // biome-ignore lint/a11y/noNoninteractiveTabindex: what is longer is scrolled with keys, too
        tabIndex={0}
        role="region"
        aria-label={`Example answer: ${of.summary}`}
        className="max-h-[188px] overflow-auto font-mono text-[12.5px] leading-[1.45]"
      >
        {pretty(of.type, of.body)}
      </pre>
    </figure>
  );
}

function pretty(type: string, body: string): string {
  if (!type.includes("json")) return body;
  try {
    return JSON.stringify(JSON.parse(body), null, 2);
  } catch {
    return body;
  }
}

function Subscribe({
  product,
  offer,
  meters,
  onClose,
}: {
  product: Product;
  offer: Offer;
  meters: Portal["MeterAsked"][];
  onClose: () => void;
}) {
  const me = useMe();
  const own = useQuery({ ...applications(), refetchInterval: false, enabled: Boolean(me.name) && me.let_in });
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
  if (!me.let_in)
    return (
      <Dialog open onClose={onClose} title={`Choose ${offer.name}`}>
        <p>
          {me.look.provider} has not let {me.consumer} in yet. Once it has, you get a letter, and can choose a
          plan.
        </p>
      </Dialog>
    );
  if (!me.may.includes("ask for plans"))
    return (
      <Dialog open onClose={onClose} title={`Choose ${offer.name}`}>
        <p>
          {me.closed
            ? `The account of ${me.consumer} is closed.`
            : `Owners and developers of ${me.consumer} choose plans; you belong to it as ${me.role}.`}
        </p>
      </Dialog>
    );
  if (product.subscribing_site)
    return (
      <Dialog open onClose={onClose} title={`${product.name} · ${offer.name}`}>
        <GoOnElsewhere
          site={product.subscribing_site}
          ask={() =>
            api.post("/products/{slug}/elsewhere", {
              params: { path: { slug: product.slug } },
              body: { plan_id: offer.plan_id },
            })
          }
        >
          {me.look.provider} takes subscriptions to {product.name} at a site of its own. You come back here
          afterwards.
        </GoOnElsewhere>
      </Dialog>
    );
  if (own.isPending)
    return (
      <Dialog open onClose={onClose} title={`${product.name} · ${offer.name}`}>
        <Waiting words="Reading your applications" />
      </Dialog>
    );
  return (
    <Ask
      key={offer.plan_id}
      product={product}
      offer={offer}
      own={own.data ?? []}
      meters={meters}
      onClose={onClose}
    />
  );
}
