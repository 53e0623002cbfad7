import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../../api/console";
import { me } from "../../../api/queries/house";
import { lastStatement } from "../../../api/queries/settle";
import { useAddress } from "../../../kit/address";
import { Button, WordButton } from "../../../kit/controls";
import { amount, count, date, dayAndMinute, inFours, plural } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import type { Column } from "../../../kit/table";
import { Aside, Page } from "../../frame";
import { useList } from "../../list";
import { isOne } from "../../roles";
import { Assign, PutAside } from "./assigning";
import { BringIn } from "./bringing-in";
import { ByCard } from "./by-card";

type Entry = Console["BankEntryView"];
type Statement = Console["StatementView"];

const SHOWN = [
  ["waiting", "Waiting for a person"],
  ["done", "Done"],
  ["statements", "Statements"],
  ["card", "By card"],
] as const;

/** What the bank says: entries that wait for a person, those that are done, and the statements they came with; and what
 * cards paid. */
export function Payments() {
  const { search } = useAddress();
  const shown = SHOWN.find(([each]) => each === search.get("show"))?.[0] ?? "waiting";
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  const [bringing, setBringing] = useState(false);
  const actions = finance && (
    <Button main onClick={() => setBringing(true)}>
      Bring a statement in…
    </Button>
  );
  return (
    <Page
      title="Payments"
      sub="What the bank says, each entry once: matched by reference and amount, else left to a person. And what cards paid."
      margin={<Margin card={shown === "card"} />}
    >
      <p className="mt-4">
        {SHOWN.map(([each, words], n) => (
          <span key={each}>
            {n > 0 && " · "}
            {each === shown ? (
              <b className="font-medium">{words}</b>
            ) : (
              <Link className="figure-link" to={`?show=${each}`}>
                {words}
              </Link>
            )}
          </span>
        ))}
      </p>
      {shown === "waiting" && <Waiting finance={finance} actions={actions} />}
      {shown === "done" && <Done finance={finance} actions={actions} />}
      {shown === "statements" && <Statements actions={actions} />}
      {shown === "card" && <ByCard />}
      {bringing && <BringIn onClose={() => setBringing(false)} />}
    </Page>
  );
}

function Margin({ card }: { card: boolean }) {
  if (card)
    return (
      <Aside title="How a card is tried">
        <p className="text-soft">
          On the day an invoice is due and so many days after, as the settings say, with what is open of it
          then. Each failure is told to the consumer. An attempt that is not answered is asked about again
          under its own name, and takes no money twice.
        </p>
        <p className="mt-2 text-soft">
          Who disputes a payment gets it back at once: the invoice is open again, and is not tried by itself.
        </p>
      </Aside>
    );
  return (
    <>
      <LastStatement />
      <Aside title="How an entry is matched">
        <p className="text-soft">
          By its creditor reference or the number of an invoice, and an amount that is what is open of it:
          then it is booked at once, and its consumer gets a receipt. Anything else waits here, with what it
          may be for.
        </p>
      </Aside>
    </>
  );
}

function LastStatement() {
  const last = useQuery(lastStatement()).data?.rows[0];
  if (!last) return null;
  const unread = last.unread.length;
  return (
    <Aside title="Brought in last">
      <p>
        {last.name} <span className="text-soft">on {dayAndMinute(last.brought_at)}</span>
      </p>
      <p className="mt-1 text-soft">
        {plural(last.new, "entry", "entries")} not seen before, of which {count(last.matched)} matched by{" "}
        {last.matched === 1 ? "itself" : "themselves"}
        {last.known > 0 && `; ${count(last.known)} were here already`}
        {unread > 0 && `; ${count(unread)} could not be used`}.
      </p>
    </Aside>
  );
}

const columns: Column<Entry>[] = [
  { head: "Day", cell: (e) => date(e.value_on), look: "whitespace-nowrap", width: "w-28" },
  {
    head: "From, and what was written",
    cell: (e) => (
      <>
        {e.amount.startsWith("-") ? "to " : ""}
        {e.name || "nobody named"}
        <div className="text-[13px] text-soft">
          {[e.creditor_reference && inFours(e.creditor_reference), e.text].filter(Boolean).join(" · ") ||
            "nothing"}
        </div>
      </>
    ),
  },
];

const ofAmount: Column<Entry> = {
  head: "Amount",
  sort: "amount",
  number: true,
  look: "whitespace-nowrap text-brass",
  cell: (e) => amount(e.amount, e.currency),
};

function Waiting({ finance, actions }: { finance: boolean; actions: React.ReactNode }) {
  const [assigning, setAssigning] = useState<Entry | null>(null);
  const [aside, setAside] = useState<Entry | null>(null);
  const list = useList("/bank/waiting", (query) => api.get("/bank/waiting", { params: { query } }), {
    every: 30_000,
  });
  return (
    <>
      <Listing
        list={list}
        id={(e) => e.id}
        words="Sender, words or reference"
        reading="Reading what waits"
        empty="Nothing waits for a person."
        actions={actions}
        columns={[
          ...columns,
          { head: "It may be for", width: "w-[34%]", cell: (e) => <Guesses of={e} /> },
          ofAmount,
          finance && {
            head: "Decide",
            quiet: true,
            look: "whitespace-nowrap",
            cell: (e) =>
              e.state === "waiting" && (
                <>
                  <WordButton onClick={() => setAssigning(e)}>
                    assign<span className="sr-only"> {amount(e.amount, e.currency)}</span>…
                  </WordButton>
                  <br />
                  <WordButton onClick={() => setAside(e)}>
                    put aside<span className="sr-only"> {amount(e.amount, e.currency)}</span>…
                  </WordButton>
                </>
              ),
          },
        ]}
      />
      {assigning && <Assign of={assigning} onClose={() => setAssigning(null)} />}
      {aside && <PutAside of={aside} onClose={() => setAside(null)} />}
    </>
  );
}

const WHY: Record<string, string> = {
  reference: "is named",
  amount: "has this amount open",
  name: "is of a consumer of that name",
};

function Guesses({ of: e }: { of: Entry }) {
  if (e.state === "new") return <span className="text-soft">being looked at</span>;
  return (
    <>
      {e.guesses.map((g) => (
        <div key={g.invoice_id}>
          <Link className="figure-link whitespace-nowrap" to={`/settle/invoices/${g.invoice_id}`}>
            {g.number}
          </Link>{" "}
          of {g.consumer}
          <span className="text-[13px] text-soft">
            {" "}
            {g.why.map((each) => WHY[each]).join(", ")}
            {!g.why.includes("amount") && `; ${amount(g.open, e.currency)} open`}
          </span>
        </div>
      ))}
      {e.guesses.length === 0 && <span className="text-soft">nothing speaks for any invoice</span>}
      {e.booked.length > 0 && (
        <div className="text-[13px] text-soft">It was booked before, and went back.</div>
      )}
    </>
  );
}

function Done({ finance, actions }: { finance: boolean; actions: React.ReactNode }) {
  const [again, setAgain] = useState<Entry | null>(null);
  const list = useList("/bank/done", (query) => api.get("/bank/done", { params: { query } }));
  return (
    <>
      <Listing
        list={list}
        id={(e) => e.id}
        words="Sender, words or reference"
        reading="Reading what is done"
        empty="Nothing the bank said is done yet."
        actions={actions}
        columns={[
          ...columns,
          { head: "What became of it", width: "w-[34%]", cell: (e) => <Became of={e} /> },
          ofAmount,
          finance && {
            head: "Have it wait again",
            quiet: true,
            cell: (e) => (
              <WordButton onClick={() => setAgain(e)}>
                wait again<span className="sr-only">, {amount(e.amount, e.currency)}</span>…
              </WordButton>
            ),
          },
        ]}
      />
      {again && <PutAside of={again} again onClose={() => setAgain(null)} />}
    </>
  );
}

function Became({ of: e }: { of: Entry }) {
  const booked = e.booked.filter((part) => part.kind !== "returned payment");
  return (
    <>
      {e.state}
      {e.decided_by && e.state !== "matched" && ` by ${e.decided_by}`}
      {e.why && <div className="text-[13px] text-soft">{e.why}</div>}
      {["matched", "assigned"].includes(e.state) &&
        booked.map((part) => (
          <div key={part.entry_id} className="text-[13px] text-soft">
            {amount(part.amount, e.currency)} to{" "}
            <Link className="figure-link" to={`/settle/accounts/${part.consumer_id}`}>
              {part.consumer}
            </Link>
            {part.names && ` for ${part.names}`}
          </div>
        ))}
    </>
  );
}

function Statements({ actions }: { actions: React.ReactNode }) {
  const list = useList("/bank/statements", (query) => api.get("/bank/statements", { params: { query } }));
  return (
    <Listing
      list={list}
      id={(s) => s.id}
      words="File named"
      reading="Reading the statements"
      empty="None was brought in yet. A bank gives them as CAMT.053 or CSV."
      actions={actions}
      columns={[
        { head: "File", sort: "name", cell: (s) => s.name },
        { head: "Brought in", cell: (s) => `${dayAndMinute(s.brought_at)}, ${s.brought_by}` },
        { head: "Entries", number: true, cell: (s) => count(s.new + s.known) },
        { head: "New", number: true, cell: (s) => count(s.new) },
        { head: "Matched", number: true, cell: (s) => count(s.matched) },
        { head: "Not used", cell: (s) => <Unread of={s} /> },
      ]}
    />
  );
}

function Unread({ of: s }: { of: Statement }) {
  const [open, setOpen] = useState(false);
  if (s.unread.length === 0) return null;
  return (
    <>
      <WordButton aria-expanded={open} onClick={() => setOpen(!open)}>
        {plural(s.unread.length, "entry", "entries")}
      </WordButton>
      {open && (
        <ul className="mt-1 text-[13px]">
          {s.unread.map((each) => (
            <li key={`${each.where} ${each.what}`}>
              <span className="text-soft">{each.where}</span>: {each.what}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
