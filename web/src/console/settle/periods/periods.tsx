import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { me } from "../../../api/queries/house";
import { handoff, periods, STALE } from "../../../api/queries/settle";
import { useAddress } from "../../../kit/address";
import { Button, Dialog, Trouble, Waiting } from "../../../kit/controls";
import { amount, count, dayAndMinute, listed, month, plural } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import { Table } from "../../../kit/table";
import { Aside, Page, Pair } from "../../frame";
import { useOpened } from "../../lately";
import { useList } from "../../list";
import { isOne } from "../../roles";
import { Exports } from "./exports";
import { Reckoned } from "./reckoned";
import { Review } from "./review";
import { Going } from "./run";

type View = Console["PeriodView"];
type Charge = View["charges"]["rows"][number];

export function Periods() {
  const navigate = useNavigate();
  const list = useQuery(periods());
  return (
    <Page title="Periods" sub="A period is a calendar month in the provider's time zone.">
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the periods" />}
      <Table
        className="mt-4 max-w-[680px]"
        rows={list.data ?? []}
        id={(p) => p.start}
        open={(p) => navigate(`/settle/periods/${p.start}`)}
        columns={[
          {
            head: "Period",
            cell: (p) => (
              <Link className="figure-link" to={`/settle/periods/${p.start}`}>
                {month(p.start)}
              </Link>
            ),
          },
          { head: "State", cell: (p) => p.state },
          { head: "Invoices", cell: (p) => p.invoices || "", number: true },
          {
            head: "Invoiced, with tax",
            cell: (p) => (p.invoices ? amount(p.total) : ""),
            number: true,
            look: "text-brass",
          },
        ]}
      />
    </Page>
  );
}

const SAYS: Record<string, string> = {
  running: "Still running: reckoned every five minutes from what is recorded so far.",
  "ready to charge": "It has ended and has no invoices yet.",
  drafted: "Its drafts are looked through, put right and issued: what is out of the ordinary comes first.",
  issued: "Its invoices are issued and never change again.",
};

export function PeriodPage() {
  const { start = "" } = useParams();
  const show = useAddress().search.get("show");
  const list = useList(
    "/periods/{start}/charges",
    async (query) => {
      const found = await api.get("/periods/{start}", { params: { path: { start }, query } });
      return { ...found.charges, period: found };
    },
    { fill: { start }, every: 30_000 },
  );
  const p = list.first?.period;
  useOpened(p ? month(p.start) : undefined);
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  if (!p)
    return (
      <Page title="Period">
        {list.error ? <Trouble error={list.error} /> : <Waiting words="Working out the charges" />}
      </Page>
    );
  const [latest] = p.runs;
  const drafts = p.drafts.length > 0 && (show ? show === "drafts" : p.state === "drafted");
  return (
    <Page title={month(p.start)} sub={SAYS[p.state]} margin={<PeriodMargin period={p} finance={finance} />}>
      {latest && <Going key={latest.id} of={latest} finance={finance} />}
      {p.drafts.length > 0 && (
        <p className="mt-4">
          <Shown is={drafts} to="?show=drafts">
            To look through, {count(p.drafts.length)}
          </Shown>{" "}
          ·{" "}
          <Shown is={!drafts} to="?show=everybody">
            Everybody
          </Shown>
        </p>
      )}
      {drafts ? (
        <Review
          start={start}
          finance={finance}
          actions={(drafts) => finance && <Moves of={p} drafts={drafts} />}
        />
      ) : (
        <>
          <Reckoned start={start} at={p.reckoned_at} />
          <Charges list={list} period={p} finance={finance} />
        </>
      )}
    </Page>
  );
}

/** Which of two lists is shown, and the way to the other. */
function Shown({ is, to, children }: { is: boolean; to: string; children: React.ReactNode }) {
  return is ? (
    <b className="font-medium">{children}</b>
  ) : (
    <Link className="figure-link" to={to}>
      {children}
    </Link>
  );
}

/** What can be done with a month: draft it, draft it anew, issue what is drafted. */
function Moves({ of: p, drafts }: { of: View; drafts?: Console["Drafts"] }) {
  const stale = useStale();
  const [issuing, setIssuing] = useState(false);
  const run = useMutation({
    mutationFn: () =>
      api.post("/periods/{start}/run", {
        params: { path: { start: p.start }, header: { "idempotency-key": crypto.randomUUID() } },
      }),
    onSuccess: () => stale(STALE.invoices),
  });
  const going = p.runs[0]?.state === "running" || run.isPending;
  const drafted = p.drafts.length > 0;
  return (
    <>
      {p.state !== "issued" && (
        <Button main={!drafted} disabled={going} onClick={() => run.mutate()}>
          {drafted ? "Charge anew" : `Make draft invoices for ${month(p.start)}`}
        </Button>
      )}
      {drafts && drafts.to_issue > 0 && p.state !== "running" && (
        <Button main disabled={going} onClick={() => setIssuing(true)}>
          Issue {plural(drafts.to_issue, "invoice")}…
        </Button>
      )}
      <Trouble error={run.error} />
      {issuing && drafts && <Issue period={p} drafts={drafts} onClose={() => setIssuing(false)} />}
    </>
  );
}

/** Everybody's charges of a month that runs, waits to be drafted, or is issued. */
function Charges({
  list,
  period: p,
  finance,
}: {
  list: ReturnType<typeof useList<Charge, { period: View }>>;
  period: View;
  finance: boolean;
}) {
  const navigate = useNavigate();
  const ended = p.state !== "running";
  const drafted = p.drafts.length > 0;
  return (
    <Listing
      list={list}
      id={(c) => c.consumer_id}
      words="Consumer named"
      reading="Working out the charges"
      empty="Nobody here was subscribed in this period."
      open={(c) =>
        navigate(c.invoice_id ? `/settle/invoices/${c.invoice_id}` : `/admit/consumers/${c.consumer_id}`)
      }
      actions={finance && <Moves of={p} />}
      columns={[
        {
          head: "Consumer",
          sort: "consumer",
          cell: (c) => (
            <Link className="figure-link" to={`/admit/consumers/${c.consumer_id}`}>
              {c.consumer}
            </Link>
          ),
        },
        { head: "Plans", cell: (c) => c.plans.join(", ") },
        {
          head: "Invoice",
          sort: "invoice",
          cell: (c) =>
            c.invoice_id ? (
              <Link className="figure-link" to={`/settle/invoices/${c.invoice_id}`}>
                {c.invoice_number ?? (c.invoice_state === "draft" ? "a draft" : "none")}
              </Link>
            ) : (
              <span className="text-soft">none yet</span>
            ),
        },
        {
          head: "State",
          sort: "state",
          cell: (c) => c.invoice_state ?? (ended ? "to charge" : "running"),
        },
        drafted && {
          head: "On the draft",
          sort: "invoiced",
          cell: (c) => (c.invoiced ? amount(c.invoiced) : ""),
          number: true,
          look: "text-brass",
        },
        {
          head: ended ? "Before tax" : "So far, before tax",
          sort: "charge",
          cell: (c) => amount(c.charge),
          number: true,
          look: "text-brass",
        },
      ]}
      foot={
        <tr>
          <td colSpan={4}>Together, everybody</td>
          {drafted && <td className="number font-semibold text-brass">{amount(p.draft_subtotal)}</td>}
          <td className="number font-semibold text-brass">{amount(p.subtotal)}</td>
        </tr>
      }
    />
  );
}

function PeriodMargin({ period, finance }: { period: View; finance: boolean }) {
  const outside = useQuery(handoff());
  const issued = period.state === "issued" || period.runs.some((r) => r.kind === "issue");
  if (outside.isPending) return null; // coming later, it would move the links below it
  return (
    <>
      <Aside title="How a charge comes about">
        <p className="text-soft">
          Usage of the period, cut where a plan or revision changed, priced by the revision in force. Every
          line is rounded once; tax is taken once of all that is taxed alike.
        </p>
      </Aside>
      <BilledOutside start={period.start} of={outside.data?.products ?? []} />
      {period.late.length > 0 && (
        <Aside title="Arrived late">
          <p className="mb-1 text-soft">
            Recorded after these invoices were issued, and on none of them. An issued invoice never changes.
          </p>
          {period.late.map((x) => (
            <Pair key={`${x.invoice_id}/${x.meter_id}`} name={`${x.consumer}, ${x.meter}`}>
              <Link className="figure-link" to={`/settle/invoices/${x.invoice_id}`}>
                {count(x.units)}
              </Link>
            </Pair>
          ))}
        </Aside>
      )}
      <Exports start={period.start} issued={issued} finance={finance} />
      {period.runs.length > 0 && (
        <Aside title="Charge runs">
          {period.runs.map((r) => (
            <Pair key={r.id} name={`${dayAndMinute(r.started_at)}, ${r.started_by}`}>
              {r.kind === "issue" ? "issued" : "drafted"} {plural(r.invoices, "invoice")}, {amount(r.total)}
            </Pair>
          ))}
        </Aside>
      )}
    </>
  );
}

/** What is not charged here in a month. */
function BilledOutside({ start, of }: { start: string; of: Console["HandoffView"]["products"] }) {
  const there = of.filter((p) => p.since <= start && (!p.until || start < p.until));
  if (there.length === 0) return null;
  return (
    <Aside title="Billed outside">
      <p className="text-soft">
        {listed(there.map((p) => p.product))} {there.length === 1 ? "is" : "are"} not charged here in this
        month:{" "}
        <Link className="figure-link" to={`/settle/handoff/sums/${start}`}>
          what was handed on
        </Link>
        .
      </p>
    </Aside>
  );
}

function Issue({
  period,
  drafts,
  onClose,
}: {
  period: View;
  drafts: Console["Drafts"];
  onClose: () => void;
}) {
  const stale = useStale();
  const [key] = useState(() => crypto.randomUUID());
  const more = drafts.to_issue + drafts.held - period.drafted_for.length;
  const issue = useMutation({
    mutationFn: () =>
      api.post("/periods/{start}/issue", {
        params: { path: { start: period.start }, header: { "idempotency-key": key } },
      }),
    onSuccess: async () => {
      await stale(STALE.invoices);
      onClose();
    },
  });
  const whom = drafts.held
    ? `${plural(drafts.held, "draft")} that ${drafts.held === 1 ? "is" : "are"} held back stay.`
    : `They go out to ${period.drafted_for.join(", ")}${more > 0 ? ` and ${count(more)} more` : ""}.`;
  return (
    <Dialog open onClose={onClose} title={`Issue the invoices of ${month(period.start)}`}>
      <p>
        {plural(drafts.to_issue, "invoice")} of together {amount(drafts.to_issue_subtotal)} before tax. {whom}{" "}
        Once issued they are never changed; where nothing is due, no invoice is issued.
      </p>
      <Trouble error={issue.error} />
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={onClose}>Not yet</Button>
        <Button main disabled={issue.isPending} onClick={() => issue.mutate()}>
          Issue {plural(drafts.to_issue, "invoice")}
        </Button>
      </div>
    </Dialog>
  );
}
