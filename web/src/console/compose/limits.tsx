import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { allApis, effective, houseLimits, STALE } from "../../api/queries/compose";
import { Trouble, Waiting, WordButton } from "../../kit/controls";
import { Menu, MenuItem } from "../../kit/menu";
import { type Part, Sentence } from "../../kit/sentence";
import { Table } from "../../kit/table";
import { typed, withChange } from "../../kit/terms";
import { Aside, Page } from "../frame";
import { useOpened } from "../lately";

type House = Console["HouseView"];

/** Limits above all plans: of everything, and of each API version. They hold at once, for everybody. */
export function HouseLimits() {
  const list = useQuery(houseLimits());
  return (
    <Page
      title="Limits above the plans"
      sub="They protect the house and its back ends, and hold whatever a plan says. A change holds from now on."
      margin={
        <Aside title="The order of things">
          <p>
            A call is tested against the limits of every API first, then those of its API, then its plan's,
            then the plan's overrides of single operations. All must agree; the first that refuses is named.
          </p>
        </Aside>
      }
    >
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the limits" />}
      {(list.data ?? []).map((house) => (
        <Place key={house.api_version_id ?? "all"} house={house} />
      ))}
    </Page>
  );
}

function Place({ house }: { house: House }) {
  const stale = useStale();
  const save = useMutation({
    mutationFn: ({ path, value }: { path: string; value: unknown }) => {
      const next = withChange({ limits: house.limits }, path, value);
      return api.put("/limits", {
        params: { header: { "if-match": `"${house.edition}"` } },
        body: { api_version_id: house.api_version_id, limits: next.limits as Record<string, unknown>[] },
      });
    },
    onSettled: () => stale(STALE.houseLimit),
  });
  return (
    <section className="group mt-5 max-w-[680px]">
      <h2 className="flex items-baseline gap-2 border-b border-line pb-1">
        {house.name}
        <Menu label={`More for ${house.name}`} trigger="+" className="px-1 text-soft hover:text-ink">
          {house.actions.map((action) => (
            <MenuItem key={action.label} onSelect={() => save.mutate(action)}>
              {action.label}
            </MenuItem>
          ))}
        </Menu>
      </h2>
      {house.sentences.map((parts, n) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: limits are in order
        <p key={n} className="border-b border-line-soft py-[7px]">
          <Sentence
            parts={parts as unknown as Part[]}
            onChange={(field, value, input) => save.mutate({ path: field, value: typed(value, input) })}
          />
        </p>
      ))}
      {house.sentences.length === 0 && <p className="py-[7px] text-soft">none</p>}
      <Trouble error={save.error} />
    </section>
  );
}

const LAYERS: Record<string, string> = {
  provider: "every API",
  api: "the API",
  plan: "the plan",
  operation: "the operation",
  subscription: "the subscription",
};

/** What a caller on a plan gets: each operation with every limit that applies, and the layer it comes from. */
export function WhatACallerGets() {
  const { id } = useParams();
  const [search, setSearch] = useSearchParams();
  const draft = search.get("draft") === "yes";
  const one = useQuery(effective(Number(id), draft));
  const data = one.data;
  useOpened(data && `Limits of ${data.plan}`);
  if (!data)
    return (
      <Page title="What a caller gets">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Laying the limits over each other" />}
      </Page>
    );
  return (
    <Page
      title={`What a caller on ${data.plan} gets`}
      sub={
        <>
          {data.drafted ? "By its draft" : "By what is published"}; every limit of a row applies, in this
          order.{" "}
          <WordButton onClick={() => setSearch(draft ? {} : { draft: "yes" }, { replace: true })}>
            {draft ? "by what is published" : "by the draft"}
          </WordButton>{" "}
          ·{" "}
          <Link className="figure-link text-[13px]" to={`/compose/products/${data.product_id}`}>
            the tariff sheet
          </Link>
        </>
      }
    >
      <Table
        className="mt-4"
        rows={data.rows.flatMap(oneByOne)}
        id={({ row, limit }) => `${row.operations[0]}${limit?.layer}${limit?.name}`}
        columns={[
          {
            head: "Operation",
            look: "max-w-[280px]",
            spans: ({ lines }) => lines,
            cell: ({ row }) =>
              row.operations.map((o) => (
                <div key={o} className="break-words">
                  {o}
                </div>
              )),
          },
          {
            head: "Limit",
            cell: ({ limit }) =>
              limit ? <Sentence parts={limit.sentence as unknown as Part[]} /> : "no limit",
          },
          {
            head: "From",
            look: "whitespace-nowrap text-soft",
            cell: ({ limit }) => limit && (LAYERS[limit.layer] ?? limit.layer),
          },
          {
            head: "Counted by",
            spans: ({ lines }) => lines,
            cell: ({ row }) => row.meters.join(", ") || <span className="text-soft">no meter</span>,
          },
        ]}
      />
      {data.rows.length === 0 && <p className="py-4 text-soft">The product sells no operation.</p>}
    </Page>
  );
}

/** A row for each limit of some operations, or one that says there is none; the first tells how many they are. */
function oneByOne<Row extends { limits: unknown[] }>(row: Row) {
  const lines = Math.max(1, row.limits.length);
  return Array.from({ length: lines }, (_, n) => ({
    row,
    limit: row.limits[n] as Row["limits"][number] | undefined,
    lines: n === 0 ? lines : 0,
  }));
}

/** The OpenAPI document of what a plan sells, by API version. */
export function PlanDocument() {
  const { id } = useParams();
  const versions = useQuery(allApis());
  const one = useQuery(effective(Number(id)));
  const sold = new Set(one.data?.rows.flatMap((r) => r.operations.map((o) => o.split("  ")[0])));
  const rows = (versions.data?.rows ?? []).filter((v) => sold.has(`${v.name} ${v.version}`));
  return (
    <Page
      title={`OpenAPI documents of ${one.data?.plan ?? "the plan"}`}
      sub="Each is cut down to the operations the plan sells and what they refer to, with the gateway's address and the API key as credential."
    >
      <Trouble error={one.error ?? versions.error} />
      <ul className="mt-4">
        {rows.map((v) => (
          <li key={v.id} className="border-b border-line-soft py-1.5">
            <a
              className="figure-link"
              href={`/api/v1/plans/${id}/openapi.json?version_id=${v.id}`}
              download={`${v.name} ${v.version}.json`}
            >
              {v.name} {v.version}
            </a>
          </li>
        ))}
      </ul>
      {one.data && rows.length === 0 && <p className="py-4 text-soft">The plan sells no operation.</p>}
    </Page>
  );
}
