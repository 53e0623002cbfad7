import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { operationsFound, products } from "../api/queries/portal";
import { useAddress } from "../kit/address";
import { Trouble, Waiting } from "../kit/controls";
import { listed } from "../kit/format";
import { Prose } from "../kit/prose";
import { useMe } from "./me";

/** All operations of the portal by what is said of them. */
function FindOperations() {
  const { search, change } = useAddress();
  const words = search.get("words") ?? "";
  const found = useQuery(operationsFound(words));
  return (
    <search className="mb-8 block">
      <label className="flex max-w-[560px] items-baseline gap-3">
        <span className="whitespace-nowrap">Find an operation</span>
        <input
          className="w-full border-b border-(--portal-main) bg-transparent pb-1"
          placeholder="high water, a path, a field of an answer"
          value={words}
          onChange={(e) => change({ words: e.target.value || null })}
        />
      </label>
      <Trouble error={found.error} />
      {words.trim() && found.data?.length === 0 && (
        <p className="mt-2 text-soft">No operation speaks of that.</p>
      )}
      {words.trim() && found.data && (
        <ul className="mt-2">
          {found.data.map((one) => (
            <li key={`${one.slug} ${one.line.id}`} className="flex flex-wrap items-baseline gap-x-4 py-1">
              <Link
                className="figure-link font-mono text-[13px]"
                to={`/products/${one.slug}?view=operations&operation=${one.line.id}`}
              >
                {one.line.method} {one.line.url_path}
              </Link>
              <span>{one.line.summary}</span>
              <span className="text-[13px] text-soft">{one.product}</span>
            </li>
          ))}
        </ul>
      )}
    </search>
  );
}

export function Browse() {
  const { look } = useMe();
  const list = useQuery(products());
  return (
    <>
      <h1 className="text-[38px]">{look.name}</h1>
      <div className="mt-1 mb-8 max-w-[64ch] text-[16px] text-(--portal-soft)">
        <Prose html={look.welcome_html} />
      </div>
      <FindOperations />
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Fetching what is offered" />}
      {list.data?.length === 0 && <p className="text-soft">Nothing is on sale yet.</p>}
      {list.data?.map((p) => (
        <section
          key={p.slug}
          className="grid gap-x-8 border-t border-(--portal-line) py-5 md:grid-cols-[1fr_auto]"
        >
          <div>
            <h2 className="text-[24px]">
              <Link className="hover:underline" to={`/products/${p.slug}`}>
                {p.name}
              </Link>
            </h2>
            <p className="mt-1 max-w-[70ch] text-(--portal-soft)">{p.description}</p>
            <p className="mt-1.5 text-[13px] text-soft">
              {listed(p.apis)} · plans {p.plans.join(", ")}
            </p>
          </div>
          <div className="self-center">
            <Link to={`/products/${p.slug}`} className="figure-link">
              Compare the plans of {p.name}
            </Link>
          </div>
        </section>
      ))}
    </>
  );
}
