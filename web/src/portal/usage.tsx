import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { allowances, type CallFilter, calls, receipt as receiptOf } from "../api/queries/portal";
import { useAddress } from "../kit/address";
import { Button, Trouble, Waiting, WordButton } from "../kit/controls";
import { count, dayAndMinute, milliseconds } from "../kit/format";
import { AllowanceGauge } from "../kit/gauge";
import { ReceiptLadder } from "../kit/receipt";
import { Table } from "../kit/table";
import { Verdict } from "../kit/verdict";

/** What a figure of one day asks for beside the day. */
const OF_A_DAY = { since_us: null, until_us: null, subscription: null, meter: null };

/** One's allowances and calls; each call opens to its receipt. */
export function Usage() {
  const { search, change } = useAddress();
  const number = (name: string) => (search.get(name) ? Number(search.get(name)) : undefined);
  const wanted: CallFilter = {
    verdict: (search.get("verdict") as CallFilter["verdict"]) ?? undefined,
    subscription: number("subscription"),
    meter: number("meter"),
    since_us: number("since_us"),
    until_us: number("until_us"),
  };
  const chosen = search.get("call");
  const gauges = useQuery(allowances());
  const pages = useInfiniteQuery(calls(wanted));
  const receipt = useQuery(receiptOf(chosen));
  const rows = pages.data?.pages.flatMap((p) => p.rows) ?? [];
  return (
    <>
      <h1>Usage</h1>
      <div className="mt-4 grid gap-x-10 gap-y-5 md:grid-cols-2">
        {gauges.data?.map((g) => (
          <div key={g.subscription_id + g.name}>
            <div className="mb-1">
              <b className="font-semibold">{g.application}</b> on {g.product} · {g.plan}, {g.name}:{" "}
              <span className="text-soft">{g.sentence}</span>
            </div>
            <AllowanceGauge of={g} />
          </div>
        ))}
        {gauges.data?.length === 0 && (
          <p className="text-soft">No plan yet; once you are on one, its allowances stand here.</p>
        )}
      </div>
      <div className={`mt-8 grid gap-x-10 ${chosen ? "lg:grid-cols-[1fr_320px]" : ""}`}>
        <div className="min-w-0 overflow-x-auto">
          <p className="flex flex-wrap items-baseline gap-3">
            <span className="font-serif text-[20px]">Calls</span>
            <select
              aria-label="Verdict"
              className="border-b border-dashed border-line bg-transparent"
              value={search.get("verdict") ?? ""}
              onChange={(e) => change({ verdict: e.target.value || null })}
            >
              <option value="">of any verdict</option>
              <option value="served">served</option>
              <option value="held">held</option>
              <option value="refused">refused</option>
            </select>
            {search.get("since_us") && (
              <WordButton onClick={() => change(OF_A_DAY)}>of one day; show all</WordButton>
            )}
            <span className="text-[13px] text-soft">{count(pages.data?.pages[0]?.total ?? 0)} in view</span>
          </p>
          <Trouble error={pages.error} />
          {pages.isPending && <Waiting words="Fetching your calls" />}
          <Table
            className="text-[14px]"
            rows={rows}
            id={(c) => c.call_id}
            current={(c) => c.call_id === chosen}
            columns={[
              {
                head: "Time",
                look: "whitespace-nowrap",
                cell: (c) => (
                  <button type="button" className="figure-link" onClick={() => change({ call: c.call_id })}>
                    {dayAndMinute(c.at)}
                  </button>
                ),
              },
              { head: "Operation", cell: (c) => c.operation },
              { head: "Application", cell: (c) => c.application },
              { head: "Took", cell: (c) => milliseconds(c.took_us), number: true },
              {
                head: "Verdict",
                look: "whitespace-nowrap",
                cell: (c) => (
                  <Verdict of={c.verdict}>
                    {c.verdict === "refused" ? `refused by ${c.refused_by}` : c.verdict}
                  </Verdict>
                ),
              },
            ]}
          />
          {!pages.isPending && rows.length === 0 && (
            <p className="py-3 text-soft">No calls yet. With a key, the first one takes a minute.</p>
          )}
          {pages.hasNextPage && (
            <Button className="mt-3" onClick={() => pages.fetchNextPage()}>
              Earlier calls
            </Button>
          )}
        </div>
        {chosen && (
          <aside
            aria-label="Receipt"
            className="border-(--portal-line) text-[14px] lg:border-l lg:pl-6 [&_.bg-paper]:bg-white"
          >
            <h2 className="mb-1.5">Receipt</h2>
            {receipt.data ? (
              <ReceiptLadder of={receipt.data} />
            ) : receipt.error ? (
              <Trouble error={receipt.error} />
            ) : (
              <Waiting words="Fetching the receipt" />
            )}
          </aside>
        )}
      </div>
    </>
  );
}
