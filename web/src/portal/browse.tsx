import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { products } from "../api/queries/portal";
import { Trouble, Waiting } from "../kit/controls";
import { Prose } from "../kit/prose";
import { useMe } from "./me";

export function Browse() {
  const { look } = useMe();
  const list = useQuery(products());
  return (
    <>
      <h1 className="text-[38px]">{look.name}</h1>
      <div className="mt-1 mb-8 max-w-[64ch] text-[16px] text-(--portal-soft)">
        <Prose html={look.welcome_html} />
      </div>
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
              {p.apis.join(" and ")} · plans {p.plans.join(", ")}
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
