import { useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Console } from "../../api/console";
import { makeStale } from "../../api/queries/asking";
import { houseSettings, me } from "../../api/queries/house";
import { type CallFilter, calls, receipt as ofReceipt, STALE, traffic } from "../../api/queries/observe";
import { useAddress } from "../../kit/address";
import { Button, Kbd, Trouble, Waiting, WordButton } from "../../kit/controls";
import { clock, count, date, dayAndMinute, milliseconds, minute, zoneName } from "../../kit/format";
import { ReceiptLadder } from "../../kit/receipt";
import { Table } from "../../kit/table";
import { Verdict } from "../../kit/verdict";
import { VerdictBars } from "../../kit/verdict-bars";
import { ConsumerChoice } from "../admit/consumer-choice";
import { Aside, Page } from "../frame";
import { isOne } from "../roles";
import { StrikeOut } from "../settle/striking";

function filterFrom(search: URLSearchParams): CallFilter {
  const number = (name: string) => (search.get(name) ? Number(search.get(name)) : undefined);
  return {
    verdict: (search.get("verdict") as CallFilter["verdict"]) ?? undefined,
    consumer: number("consumer"),
    subscription: number("subscription"),
    meter: number("meter"),
    usage_file: number("usage_file"),
    since_us: number("since_us"),
    until_us: number("until_us"),
  };
}

/** Live verdicts over time, the call log, and the receipt of the chosen call. */
export function Traffic() {
  const { search, change } = useAddress();
  const wanted = filterFrom(search);
  const chosen = search.get("call");
  const key = search.toString().replace(/&?call=[^&]*/, "");
  const recent = useQuery(traffic(wanted));
  const from = useQuery(houseSettings()).data?.calls_from;
  const pages = useInfiniteQuery(calls(wanted));
  const rows = pages.data?.pages.flatMap((p) => p.rows) ?? [];
  useLive(wanted, pages.isSuccess && !pages.isPlaceholderData, (pages.data?.pages.length ?? 1) === 1);
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  const [striking, setStriking] = useState<Partial<Console["CallsIn"]> | null>(null);
  const set = (name: string, value: string | null) =>
    change({ [name]: value }, { replace: name === "call" && chosen !== null });
  const receipt = useQuery(ofReceipt(chosen));
  const total = pages.data?.pages[0]?.total ?? 0;
  return (
    <Page
      title="Traffic"
      sub={`Live, all products · the last 30 minutes · ${zoneName()}`}
      margin={
        chosen ? (
          receipt.data ? (
            <Aside
              title={
                receipt.data.call.verdict === "refused"
                  ? "Why this call was refused"
                  : `Why this call was ${receipt.data.call.verdict}`
              }
            >
              <ReceiptLadder of={receipt.data} />
              <p className="mt-3 text-[12px] break-all text-soft">Call {receipt.data.call.call_id}</p>
              {finance && charges(receipt.data.call) && (
                <WordButton
                  onClick={() =>
                    setStriking({ source: receipt.data.source, ids: [receipt.data.call.call_id] })
                  }
                >
                  strike it out…
                </WordButton>
              )}
            </Aside>
          ) : receipt.error ? (
            <Trouble error={receipt.error} />
          ) : (
            <Waiting words="Fetching the receipt" />
          )
        ) : (
          <Aside title="Receipts">
            <p className="text-soft">
              Each call opens to its receipt: everything that was checked, in order, with the counts and the
              rule.
            </p>
          </Aside>
        )
      }
    >
      {recent.data && (
        <>
          <div className="my-4 flex gap-12">
            <Figure n={recent.data.served} of="served" />
            <Figure
              n={recent.data.held}
              of="held"
              more={recent.data.held ? `, ${recent.data.held_ms} ms on average` : ""}
            />
            <Figure n={recent.data.refused} of="refused" />
          </div>
          <VerdictBars
            bars={recent.data.minutes}
            name={minute}
            of="Minute"
            every={5}
            says="Calls by minute and verdict"
          />
        </>
      )}
      <div className="mt-4 flex items-baseline justify-between gap-4">
        <Filter search={search} set={set} />
        <span className="text-[13px] whitespace-nowrap">
          {finance && wanted.consumer && wanted.verdict !== "refused" && (
            <>
              <WordButton onClick={() => setStriking(wanted as Partial<Console["CallsIn"]>)}>
                strike them out…
              </WordButton>{" "}
              ·{" "}
            </>
          )}
          <a className="figure-link" href={`/api/v1/calls.csv?${key}`} download>
            Save as CSV
          </a>
        </span>
      </div>
      <Trouble error={pages.error} />
      {pages.isPending && <Waiting words="Reading the log" />}
      <Table
        tight
        className="mt-1"
        rows={rows}
        id={(c) => c.call_id}
        open={(c) => set("call", c.call_id)}
        current={(c) => c.call_id === chosen}
        columns={[
          {
            head: "Time",
            look: "whitespace-nowrap",
            cell: (c) => (
              <Link
                className="hover:text-kelp"
                title={dayAndMinute(c.at)}
                to={`?${withCall(search, c.call_id)}`}
              >
                {Date.now() - Date.parse(c.at) < 43_200_000 ? clock(c.at) : dayAndMinute(c.at)}
              </Link>
            ),
          },
          {
            head: "Operation",
            look: "w-full max-w-0 truncate", // what the others leave
            cell: (c) => <span title={c.operation}>{c.operation}</span>,
          },
          {
            head: "Consumer",
            look: "max-w-40 truncate",
            cell: (c) => <span title={c.consumer}>{c.consumer || "unknown"}</span>,
          },
          {
            head: "Application",
            look: "max-w-32 truncate",
            cell: (c) => <span title={c.application}>{c.application}</span>,
          },
          { head: "Took", cell: (c) => (c.elsewhere ? "elsewhere" : milliseconds(c.took_us)), number: true },
          {
            head: "Verdict",
            look: "max-w-48 truncate",
            cell: (c) => (
              <span title={verdictWords(c)}>
                <Verdict of={c.verdict}>{verdictWords(c)}</Verdict>
                {c.struck && <span className="text-madder"> struck out</span>}
              </span>
            ),
          },
        ]}
      />
      {!pages.isPending && rows.length === 0 && (
        <p className="py-4 text-soft">
          No call is recorded that fits. A call just made takes a second to come here.
          {from && ` Calls before ${date(from)} were thrown away, as the settings say.`}
        </p>
      )}
      <div className="mt-3 flex items-center gap-3 text-[13px] text-soft">
        {count(total)} calls in view · <Kbd>j</Kbd> <Kbd>k</Kbd> move · <Kbd>Enter</Kbd> open the receipt
        {pages.hasNextPage && (
          <Button small className="ml-auto" onClick={() => pages.fetchNextPage()}>
            Earlier calls
          </Button>
        )}
      </div>
      {striking && <StrikeOut which={striking} onClose={() => setStriking(null)} />}
    </Page>
  );
}

/** Whether somebody may be charged for a call: then it can be struck out. */
const charges = (c: Console["CallLine"]) => c.consumer_id !== null && c.verdict !== "refused" && !c.struck;

function withCall(search: URLSearchParams, call: string): string {
  const next = new URLSearchParams(search);
  next.set("call", call);
  return next.toString();
}

function verdictWords(c: Console["CallLine"]): string {
  if (c.verdict === "refused") return `refused by ${c.refused_by}`;
  const so = c.verdict === "held" ? `held ${milliseconds(c.wait_us)}` : "served";
  return c.status < 300 ? so : `${so}, ${c.status}`;
}

/** Follow what is new, once the log is `read`: news that came while a first reading is under way would be taken as
 * answered by it. What comes during a later reading is read after it. Rows already asked for beyond the first page stay
 * where they are. */
function useLive(wanted: CallFilter, read: boolean, follow: boolean) {
  const queries = useQueryClient();
  const query = new URLSearchParams(
    Object.entries(wanted).flatMap(([name, value]) => (value === undefined ? [] : [[name, String(value)]])),
  ).toString();
  useEffect(() => {
    if (!read) return;
    const stale = follow ? STALE.trafficAndLog : STALE.traffic;
    let reading: Promise<unknown> = Promise.resolve();
    let asked = false;
    const events = new EventSource(`/api/v1/traffic/live?${query}`);
    events.addEventListener("traffic", () => {
      if (asked) return;
      asked = true;
      reading = reading.then(() => {
        asked = false;
        return makeStale(queries, stale);
      });
    });
    return () => events.close();
  }, [query, read, follow, queries]);
}

function Figure({ n, of, more = "" }: { n: number; of: string; more?: string }) {
  return (
    <div>
      <div className="font-serif text-[27px] leading-tight">{count(n)}</div>
      <Verdict of={of}>
        {of}
        {more}
      </Verdict>
    </div>
  );
}

function Filter({
  search,
  set,
}: {
  search: URLSearchParams;
  set: (name: string, value: string | null) => void;
}) {
  const look = "border-b border-dashed border-kelp/50 bg-transparent font-semibold";
  const since = search.get("since_us");
  return (
    <p className="text-soft">
      Calls where{" "}
      <select
        aria-label="Verdict"
        className={`${look} text-ink`}
        value={search.get("verdict") ?? ""}
        onChange={(e) => set("verdict", e.target.value || null)}
      >
        <option value="">verdict is anything</option>
        <option value="served">verdict is served</option>
        <option value="held">verdict is held</option>
        <option value="refused">verdict is refused</option>
      </select>{" "}
      and consumer is{" "}
      <ConsumerChoice
        label="Consumer"
        nobody="anyone"
        className={`${look} w-44 text-ink placeholder:font-normal placeholder:text-ink`}
        chosen={search.get("consumer") ? Number(search.get("consumer")) : null}
        onChoose={(c) => set("consumer", c ? String(c.id) : null)}
      />
      {since && <> from {dayAndMinute(new Date(Number(since) / 1000))} on</>}
      {search.get("meter") && <>, counted by one meter</>}
      {search.get("usage_file") && (
        <>
          , brought in with{" "}
          <Link className="figure-link" to={`/settle/usage/${search.get("usage_file")}`}>
            a file
          </Link>
        </>
      )}
    </p>
  );
}
