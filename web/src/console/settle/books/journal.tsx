import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { me } from "../../../api/queries/house";
import { journal, journalMonth, STALE } from "../../../api/queries/settle";
import { useAddress } from "../../../kit/address";
import { Button, Dialog, Trouble, Waiting } from "../../../kit/controls";
import { amount, count, date, dayAndMinute, month, plural } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import { Table } from "../../../kit/table";
import { Aside, Page } from "../../frame";
import { useOpened } from "../../lately";
import { useList } from "../../list";
import { isOne } from "../../roles";
import { BooksTabs } from "./tabs";

type Month = Console["JournalMonthView"];
type Detail = Console["JournalMonthDetail"];
type Entry = Console["JournalEntry"];

const at = (of: Month) => `/settle/books/journal/${of.start}`;

/** The journal month by month. */
export function Journal() {
  const navigate = useNavigate();
  const list = useQuery(journal());
  return (
    <Page
      title="Journal"
      sub="What documents, payments, refunds and write-offs post, for the bookkeeper: month by month, debit and credit alike."
      margin={<AboutFiles />}
    >
      <BooksTabs shown="journal" />
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the months" />}
      {list.data?.length === 0 && (
        <p className="mt-4 text-soft">Nothing is booked yet. The first invoice that is issued begins it.</p>
      )}
      {(list.data?.length ?? 0) > 0 && (
        <Table
          className="mt-4"
          rows={list.data ?? []}
          id={(m) => m.start}
          open={(m) => navigate(at(m))}
          columns={[
            {
              head: "Month",
              cell: (m) => (
                <Link className="figure-link" to={at(m)}>
                  {month(m.start)}
                </Link>
              ),
            },
            { head: "State", cell: (m) => <State of={m} /> },
            { head: "Entries", number: true, cell: (m) => count(m.entries) },
            { head: "Debit", number: true, cell: (m) => amount(m.debit) },
            { head: "Credit", number: true, cell: (m) => amount(m.credit) },
          ]}
        />
      )}
    </Page>
  );
}

function State({ of: m }: { of: Month }) {
  if (m.closed_at)
    return (
      <>
        closed{" "}
        <span className="text-soft">
          on {dayAndMinute(m.closed_at)} by {m.closed_by}
        </span>
      </>
    );
  return m.over ? <span className="text-brass">over, to be closed</span> : <>still running</>;
}

function AboutFiles() {
  return (
    <Aside title="For the bookkeeper">
      <p className="text-soft">
        Each month is there as CSV, posting by posting, and as plain-text double entry. Whoever reads the text
        reads{" "}
        <a className="figure-link" href="/api/v1/journal/accounts.txt" download>
          the accounts
        </a>{" "}
        first, once, and then the months.
      </p>
      <p className="mt-2 text-soft">
        A closed month stays as it is, with its names. What has to be put right later is booked in a later
        month.
      </p>
    </Aside>
  );
}

/** One month: what it posts to each account, and its entries. */
export function JournalMonth() {
  const { start = "" } = useParams();
  const one = useQuery(journalMonth(start));
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  const [closing, setClosing] = useState(false);
  useOpened(`Journal of ${month(start)}`);
  const of = one.data;
  if (!of)
    return (
      <Page title="Journal">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the month" />}
      </Page>
    );
  const m = of.month;
  return (
    <Page
      title={`Journal of ${month(start)}`}
      sub={
        <span className="inline-block first-letter:uppercase">
          <State of={m} />
        </span>
      }
      margin={<Margin of={of} close={finance && m.over && !m.closed_at ? () => setClosing(true) : null} />}
    >
      <Sums of={of} />
      <Entries of={of} />
      {closing && <Close of={m} onClose={() => setClosing(false)} />}
    </Page>
  );
}

function Sums({ of }: { of: Detail }) {
  const { search, change } = useAddress();
  const shown = search.get("account");
  return (
    <Table
      className="mt-4"
      tight
      rows={of.accounts}
      id={(a) => a.account}
      selected={(a) => a.account === shown}
      columns={[
        {
          head: "Account",
          cell: (a) => (
            <button
              type="button"
              className="figure-link"
              aria-pressed={a.account === shown}
              onClick={() => change({ account: a.account === shown ? null : a.account })}
            >
              {a.account}
            </button>
          ),
        },
        { head: "Debit", number: true, cell: (a) => figure(a.debit, of.currency) },
        { head: "Credit", number: true, cell: (a) => figure(a.credit, of.currency) },
        {
          head: "Debit less credit",
          number: true,
          look: "text-brass",
          cell: (a) => amount(a.balance, of.currency),
        },
      ]}
      foot={
        <tr>
          <td>Together</td>
          <td className="number">{amount(of.month.debit, of.currency)}</td>
          <td className="number">{amount(of.month.credit, of.currency)}</td>
          <td />
        </tr>
      }
    />
  );
}

const figure = (of: string, currency: string) => (Number(of) ? amount(of, currency) : "");

function Entries({ of }: { of: Detail }) {
  const { search, change } = useAddress();
  const account = search.get("account") ?? "";
  const { start } = of.month;
  const list = useList(
    "/journal/{month}/entries",
    (query) =>
      api.get("/journal/{month}/entries", {
        params: { path: { month: start }, query: { ...query, account } },
      }),
    { fill: { month: start }, fixed: new URLSearchParams({ account }).toString() },
  );
  return (
    <section aria-label="Entries" className="mt-8">
      <h2 className="font-serif text-[18px]">{account ? `What posts to ${account}` : "Entries"}</h2>
      <Listing
        list={list}
        id={(e) => e.id}
        words="Consumer or number"
        reading="Reading the entries"
        empty="Nothing is booked here."
        actions={account && <Button onClick={() => change({ account: null })}>Show every entry</Button>}
        columns={[
          { head: "Day", cell: (e) => date(e.on), look: "whitespace-nowrap align-top", width: "w-28" },
          { head: "Entry", cell: (e) => <What of={e} />, look: "align-top" },
          { head: "Account", cell: (e) => <Each of={e} say={(p) => p.account} /> },
          { head: "Debit", number: true, cell: (e) => <Each of={e} say={(p) => side(p, false, of)} /> },
          { head: "Credit", number: true, cell: (e) => <Each of={e} say={(p) => side(p, true, of)} /> },
        ]}
      />
    </section>
  );
}

const side = (p: Entry["postings"][number], credit: boolean, of: Detail) =>
  p.amount.startsWith("-") === credit ? amount(p.amount.replace("-", ""), of.currency) : "";

function Each({ of: e, say }: { of: Entry; say: (p: Entry["postings"][number]) => string }) {
  return e.postings.map((p) => (
    <div key={p.account} className="whitespace-nowrap">
      {say(p) || "\u00a0"}
    </div>
  ));
}

const SAID: Record<string, string> = {
  invoice: "Invoice",
  "credit note": "Credit note",
  payment: "Payment for",
  refund: "Refund",
  "write-off": "Write-off of",
  "returned payment": "Payment that went back, for",
};

function What({ of: e }: { of: Entry }) {
  const words = SAID[e.kind] ?? e.kind;
  const to = e.kind === "credit note" ? "credit-notes" : "invoices";
  return (
    <>
      {e.document_id ? (
        <>
          {words}{" "}
          <Link className="figure-link whitespace-nowrap" to={`/settle/${to}/${e.document_id}`}>
            {e.reference}
          </Link>
        </>
      ) : (
        words.replace(/,? for$/, "")
      )}
      <div className="text-[13px] text-soft">
        <Link className="figure-link" to={`/settle/accounts/${e.consumer_id}`}>
          {e.consumer}
        </Link>
        {e.value_on && e.value_on !== e.on && `, at the bank on ${date(e.value_on)}`}
      </div>
    </>
  );
}

function Margin({ of, close }: { of: Detail; close: (() => void) | null }) {
  const base = `/api/v1/journal/${of.month.start}`;
  return (
    <>
      <Aside title="As files">
        <p>
          <a className="figure-link" href={`${base}/journal.csv`} download>
            CSV
          </a>{" "}
          ·{" "}
          <a className="figure-link" href={`${base}/journal.txt`} download>
            plain-text double entry
          </a>{" "}
          ·{" "}
          <a className="figure-link" href="/api/v1/journal/accounts.txt" download>
            its accounts
          </a>
        </p>
        {of.month.digest && (
          <p className="mt-1 text-[13px] break-all text-soft">SHA-256 of the text: {of.month.digest}</p>
        )}
      </Aside>
      <Aside title={of.month.closed_at ? "Closed" : "Closing"}>
        <p className="text-soft">
          {of.month.closed_at
            ? "Nothing more is booked in it, and its files and names stay as they are."
            : of.month.over
              ? "Once it is closed, nothing more is booked in it, and its files and names stay as they are."
              : "It can be closed once it is over."}
        </p>
        {close && (
          <p className="mt-2">
            <Button main onClick={close}>
              Close {month(of.month.start)}…
            </Button>
          </p>
        )}
      </Aside>
    </>
  );
}

function Close({ of: m, onClose }: { of: Month; onClose: () => void }) {
  const stale = useStale();
  const close = useMutation({
    mutationFn: () => api.post("/journal/{month}/close", { params: { path: { month: m.start } } }),
    onSuccess: async () => {
      await stale(STALE.journal);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Close the journal of ${month(m.start)}`}>
      <p>
        {plural(m.entries, "entry", "entries")} of {amount(m.debit)} are kept as they are now, with the names
        of their accounts. Nothing more can be booked in {month(m.start)}, and it cannot be opened again.
      </p>
      <Trouble error={close.error} />
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={onClose}>Leave it open</Button>
        <Button main onClick={() => close.mutate()} disabled={close.isPending}>
          Close {month(m.start)}
        </Button>
      </div>
    </Dialog>
  );
}
