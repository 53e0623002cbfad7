import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { me } from "../../../api/queries/house";
import { books, STALE } from "../../../api/queries/settle";
import { Button, Trouble, Waiting, WordButton } from "../../../kit/controls";
import { amount, count, dayAndMinute, decimals, month, plural } from "../../../kit/format";
import { Progress } from "../../../kit/progress";
import { Table } from "../../../kit/table";
import { Aside, Page } from "../../frame";
import { isOne } from "../../roles";
import { Differences } from "./differences";
import { BooksTabs } from "./tabs";

type View = Console["BooksView"];
type Proof = View["proofs"][number];
type Period = View["periods"][number];

/** The proof that what was recorded, counted, charged and booked agrees; and what does not. */
export function Books() {
  const read = useQuery(books());
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  const of = read.data;
  return (
    <Page
      title="Books"
      sub="That what was recorded, counted, charged and booked agrees: each sum is computed apart from the others, from its own table."
      margin={
        <>
          {of && <When of={of} finance={finance} />}
          <Aside title="How it is proved">
            <p className="text-soft">
              Every day, and when somebody asks, at one moment of the database. Where two sums differ, the
              hours and the calls it came of are named.
            </p>
          </Aside>
        </>
      }
    >
      <BooksTabs shown="proof" />
      <Trouble error={read.error} />
      {read.isPending && <Waiting words="Reading the books" />}
      {of && !of.last && !of.going && (
        <p className="mt-4 text-soft">
          They were not looked through yet. That is done every day, or now if you ask for it.
        </p>
      )}
      {of?.last && (
        <>
          <h2 className={`mt-5 font-serif text-[24px] ${of.differences > 0 ? "text-madder" : "text-kelp"}`}>
            {of.differences === 0 ? "Everything agrees" : differ(of.differences)}
          </h2>
          {of.differences > 0 && <Differences currency={of.currency} />}
          <Proofs of={of} />
          <Periods of={of.periods} />
        </>
      )}
    </Page>
  );
}

const differ = (n: number) => (n === 1 ? "Two sums differ" : `${count(n)} sums differ`);

function When({ of, finance }: { of: View; finance: boolean }) {
  const stale = useStale();
  const onSettled = () => stale(STALE.books);
  const begin = useMutation({ mutationFn: () => api.post("/books/audits"), onSettled });
  const stop = useMutation({
    mutationFn: (id: number) =>
      api.post("/books/audits/{audit_id}/stop", { params: { path: { audit_id: id } } }),
    onSettled,
  });
  const { last, going } = of;
  return (
    <Aside title="Looked through">
      {last?.at && (
        <p>
          {dayAndMinute(last.at)}
          <span className="text-soft"> for {last.asked_by}</span>
        </p>
      )}
      {going && (
        <>
          <Progress done={going.done} of={going.planned} units="checks" words="made" />
          {finance && (
            <WordButton onClick={() => stop.mutate(going.id)} disabled={stop.isPending}>
              stop
            </WordButton>
          )}
        </>
      )}
      {!going && finance && (
        <p className="mt-2">
          <Button main onClick={() => begin.mutate()} disabled={begin.isPending}>
            Look through them now
          </Button>
        </p>
      )}
      <Trouble error={begin.error ?? stop.error} />
    </Aside>
  );
}

function Proofs({ of }: { of: View }) {
  return (
    <Table
      className="mt-4"
      rows={of.proofs}
      id={(p) => p.check}
      columns={[
        { head: "What is proved", cell: (p) => p.proves, width: "w-[38%]", look: "align-top" },
        {
          head: "By which sums",
          cell: (p) => <Sums of={p} currency={of.currency} period={of.periods[0]?.start} />,
        },
        {
          head: "Compared",
          number: true,
          look: "align-top whitespace-nowrap",
          cell: (p) => (
            <>
              {count(p.compared)}
              <div className={p.differences > 0 ? "text-madder" : "text-kelp"}>
                {p.differences > 0 ? plural(p.differences, "differs", "differ") : "agree"}
              </div>
            </>
          ),
        },
      ]}
    />
  );
}

// Where the sums of a check open.
const OPENS: Record<string, string> = {
  calls: "/observe/traffic",
  documents: "/settle/periods",
  numbers: "/settle/periods",
  accounts: "/settle/accounts",
  money: "/settle/payments",
  journal: "/settle/books/journal",
  handoff: "/settle/handoff",
};

function Sums({ of, currency, period }: { of: Proof; currency: string; period?: string }) {
  const places = decimals(of.sums.map((s) => s.amount));
  const to = OPENS[of.check] ?? `/settle/books/${period}`;
  return (
    <dl className="grid grid-cols-[1fr_auto] gap-x-4">
      {of.sums.map((s) => (
        <div key={s.table} className="contents">
          <dt className="text-soft">{s.table}</dt>
          <dd className="number">
            <Link className="figure-link" to={to}>
              {of.of_money ? amount(s.amount, currency) : count(s.amount, places)}
            </Link>
          </dd>
        </div>
      ))}
    </dl>
  );
}

function Periods({ of }: { of: Period[] }) {
  const navigate = useNavigate();
  const at = (p: Period) => `/settle/books/${p.start}`;
  return (
    <section aria-label="Calls by period" className="mt-8">
      <h2 className="font-serif text-[18px]">What became of the calls</h2>
      <p className="mt-1 text-soft">Each was counted by a meter, or by none, for a reason.</p>
      <Table
        className="mt-2"
        rows={of}
        id={(p) => p.start}
        open={(p) => navigate(at(p))}
        columns={[
          {
            head: "Period",
            cell: (p) => (
              <Link className="figure-link" to={at(p)}>
                {month(p.start)}
              </Link>
            ),
          },
          {
            head: "Calls",
            number: true,
            cell: (p) => (
              <Link
                className="figure-link"
                to={`/observe/traffic?since_us=${p.since_us}&until_us=${p.until_us}`}
              >
                {count(p.recorded)}
              </Link>
            ),
          },
          { head: "Counted", number: true, cell: (p) => some(p.counted) },
          { head: "Refused", number: true, cell: (p) => some(p.refused) },
          { head: "Failed", number: true, cell: (p) => some(p.failed) },
          { head: "Struck out", number: true, cell: (p) => some(p.struck_out) },
          { head: "Sandbox", number: true, cell: (p) => some(p.sandbox) },
          { head: "No meter", number: true, cell: (p) => some(p.uncovered) },
          {
            head: "Their units",
            number: true,
            cell: (p) =>
              p.differ > 0 ? (
                <span className="text-madder">{differ(p.differ)}</span>
              ) : (
                <span className="text-soft">{plural(p.sums, "sum")} agree</span>
              ),
          },
        ]}
      />
    </section>
  );
}

const some = (n: number) => (n > 0 ? count(n) : "");
