import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import type { Portal } from "../../api/portal";
import { type CallFilter, calls, receipt as receiptOf } from "../../api/queries/portal";
import { Button, Trouble, Waiting, WordButton } from "../../kit/controls";
import { count, dayAndMinute, milliseconds } from "../../kit/format";
import { ReceiptLadder } from "../../kit/receipt";
import { Table } from "../../kit/table";
import { Verdict } from "../../kit/verdict";
import { fileOf, NOTHING_FURTHER, useChosen } from "./chosen";

/** One's calls, those that the figures above are of; each opens to its receipt. */
export function CallLog({ within }: { within?: Portal["UsageView"] }) {
  const { calls: asked, call: chosen, change } = useChosen();
  const ofFigures = asked.since_us === undefined;
  const wanted: CallFilter = {
    ...asked,
    ...(ofFigures && within && { since_us: within.since_us, until_us: within.until_us }),
  };
  const pages = useInfiniteQuery({ ...calls(wanted), enabled: !ofFigures || within !== undefined });
  const receipt = useQuery(receiptOf(chosen));
  const rows = pages.data?.pages.flatMap((p) => p.rows) ?? [];
  const further = asked.since_us !== undefined || asked.refused_by !== undefined;
  return (
    <div className={`mt-8 grid gap-x-10 ${chosen ? "lg:grid-cols-[1fr_320px]" : ""}`}>
      <section aria-label="Calls" className="min-w-0 overflow-x-auto">
        <p className="flex flex-wrap items-baseline gap-3">
          <span className="font-serif text-[20px]">Calls</span>
          <select
            aria-label="Verdict"
            className="border-b border-dashed border-line bg-transparent"
            value={asked.verdict ?? ""}
            onChange={(e) => change({ verdict: e.target.value || null, refused_by: null })}
          >
            <option value="">of any verdict</option>
            <option value="served">served</option>
            <option value="held">held</option>
            <option value="refused">refused</option>
          </select>
          {further && (
            <WordButton onClick={() => change({ ...NOTHING_FURTHER, verdict: asked.verdict ?? null })}>
              {asked.refused_by !== undefined
                ? "of one cause; show all"
                : asked.subscription !== undefined
                  ? "of one line’s day; show all"
                  : "of one day; show all"}
            </WordButton>
          )}
          <span className="text-[13px] text-soft">
            {pages.data ? `${count(pages.data.pages[0]?.total ?? 0)} in view` : "counting them …"} · as{" "}
            <a className="figure-link" href={fileOf("calls.csv", wanted)} download>
              CSV
            </a>
            ,{" "}
            <a className="figure-link" href={fileOf("calls.json", wanted)} download>
              JSON
            </a>
          </span>
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
            { head: "Status", cell: (c) => c.status, number: true },
            {
              head: "Took",
              cell: (c) => (c.elsewhere ? "elsewhere" : milliseconds(c.took_us)),
              number: true,
            },
            {
              head: "Verdict",
              look: "whitespace-nowrap",
              cell: (c) => (
                <Verdict of={c.verdict}>
                  {c.verdict === "refused" ? `refused by ${c.refused_by}` : c.verdict}
                  {c.struck && ", struck out"}
                </Verdict>
              ),
            },
          ]}
        />
        {!pages.isPending && rows.length === 0 && (
          <p className="py-3 text-soft">No such calls. With a key, a first one takes a minute.</p>
        )}
        {pages.hasNextPage && (
          <Button className="mt-3" onClick={() => pages.fetchNextPage()}>
            Earlier calls
          </Button>
        )}
      </section>
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
  );
}
