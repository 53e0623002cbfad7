import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../../api/console";
import { productsToChoose } from "../../../api/queries/compose";
import { useAddress } from "../../../kit/address";
import { Choose } from "../../../kit/choose";
import { Kbd, WordButton } from "../../../kit/controls";
import { amount, dayAndMinute, plural } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import { Page } from "../../frame";
import { useList } from "../../list";
import { Bulk } from "./bulk";
import { Undo } from "./undo";
import { Target } from "./waiting";

type Request = Console["RequestView"];

/** The reviewer's queue of requests. */
export function Desk() {
  const { search, change } = useAddress();
  const decided = search.get("show") === "decided";
  const sought = {
    decided,
    product_id: search.get("product") ? Number(search.get("product")) : undefined,
    mine: search.get("mine") === "yes",
    overdue: search.get("late") === "yes",
  };
  const list = useList(
    "/requests",
    (query) => api.get("/requests", { params: { query: { ...query, ...sought } } }),
    {
      fixed: new URLSearchParams(
        Object.entries(sought).flatMap(([name, value]) =>
          value === undefined ? [] : [[name, String(value)] as [string, string]],
        ),
      ).toString(),
      every: 5_000,
    },
  );
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const toggle = (id: number) =>
    setChosen((before) => {
      const next = new Set(before);
      if (!next.delete(id)) next.add(id);
      return next;
    });
  const rows = list.rows.filter((row) => chosen.has(row.id));
  const address = (r: Request) => `/admit/desk/${r.id}`;
  return (
    <Page
      title="The desk"
      sub={
        decided ? (
          <>
            Decided requests, the latest first ·{" "}
            <WordButton onClick={() => change({ show: null })}>those waiting</WordButton>
          </>
        ) : (
          <>
            Requests that wait, the oldest first ·{" "}
            <WordButton onClick={() => change({ show: "decided" })}>those decided</WordButton> ·{" "}
            <Link className="figure-link text-[13px]" to="/admit/desk/reasons">
              reasons for declining
            </Link>
          </>
        )
      }
    >
      <Undo />
      <div className="mt-3 flex flex-wrap items-end gap-x-6 gap-y-2 text-[13px]">
        <ProductFilter />
        {!decided && (
          <>
            <Toggle name="mine" words="in my hands" />
            <Toggle name="late" words="past their target" />
          </>
        )}
      </div>
      {rows.length > 0 && <Bulk of={rows} done={() => setChosen(new Set())} />}
      <Listing
        list={list}
        id={(r) => r.id}
        words="Consumer named"
        reading="Looking what waits"
        empty={
          sought.product_id !== undefined || sought.mine || sought.overdue
            ? "No request is like that."
            : decided
              ? "Nothing has been decided yet."
              : "No request waits. When a developer asks for a reviewed plan, it comes here."
        }
        address={address}
        mark={decided ? undefined : (r) => r.state !== "passed to outside" && toggle(r.id)}
        columns={[
          { head: "Consumer", sort: "consumer", cell: (r) => r.consumer },
          {
            head: "Asks for",
            sort: "plan",
            cell: (r) => (
              <>
                {`${r.product} · ${r.moves_from ? `${r.moves_from} → ${r.plan}` : r.plan}`}
                <div className="max-w-[420px] text-[12px] text-soft">
                  {r.application}: {r.purpose}
                </div>
              </>
            ),
          },
          {
            head: "A month, expected",
            sort: "weight",
            number: true,
            cell: (r) => <span className="text-brass">{amount(r.weight)}</span>,
          },
          decided
            ? {
                head: "Decided",
                sort: "since",
                cell: (r) => r.decided_at && dayAndMinute(r.decided_at),
                look: "whitespace-nowrap",
              }
            : { head: "Waits", sort: "target", cell: (r) => <Target of={r} />, look: "whitespace-nowrap" },
          decided
            ? { head: "Outcome", sort: "outcome", cell: (r) => r.state }
            : { head: "Stands", sort: "outcome", cell: (r) => <Stands of={r} /> },
          !decided && { head: "In hand", cell: (r) => r.assigned_to ?? "" },
          !decided && {
            head: "Choose",
            quiet: true,
            cell: (r) => (
              <input
                type="checkbox"
                className="accent-(--color-kelp)"
                aria-label={`Choose ${r.application} of ${r.consumer}`}
                checked={chosen.has(r.id)}
                disabled={r.state === "passed to outside"}
                onChange={() => toggle(r.id)}
              />
            ),
          },
        ]}
      />
      {!decided && list.rows.length > 1 && (
        <p className="mt-2 text-[12px] text-soft">
          <Kbd>j</Kbd> <Kbd>k</Kbd> move through them, <Kbd>Enter</Kbd> opens one, <Kbd>x</Kbd> chooses it.{" "}
          {chosen.size > 0 && `${plural(chosen.size, "request")} chosen.`}
        </p>
      )}
    </Page>
  );
}

/** Where an undecided request stands, in a word or two. */
function Stands({ of: r }: { of: Request }) {
  if (r.state === "passed to outside") return <>outside{r.ticket && `, ticket ${r.ticket}`}</>;
  if (r.state === "asked back") return <>asked back</>;
  return r.agreed.length > 0 ? <>needs {r.needs}</> : <>waits for {r.needs}</>;
}

function ProductFilter() {
  const { search, change } = useAddress();
  const all = useQuery(productsToChoose());
  return (
    <Choose
      label="Of"
      quiet
      className="w-52"
      value={search.get("product") ?? ""}
      choices={[["", "every product"], ...(all.data?.rows ?? []).map((p) => [String(p.id), p.name] as const)]}
      onChange={(product) => change({ product: product || null })}
    />
  );
}

function Toggle({ name, words }: { name: string; words: string }) {
  const { search, change } = useAddress();
  const on = search.get(name) === "yes";
  return (
    <label className="flex items-baseline gap-2 pb-1">
      <input
        type="checkbox"
        className="accent-(--color-kelp)"
        checked={on}
        onChange={() => change({ [name]: on ? null : "yes" })}
      />
      {words}
    </label>
  );
}
