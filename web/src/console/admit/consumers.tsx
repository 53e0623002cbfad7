import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api } from "../../api/console";
import { consumer } from "../../api/queries/admit";
import { me } from "../../api/queries/house";
import { Trouble, Waiting } from "../../kit/controls";
import { amount, count, date, dayAndMinute, dayAndYear, month, plural } from "../../kit/format";
import { AllowanceGauge } from "../../kit/gauge";
import { Table } from "../../kit/table";
import { Aside, Page, Pair } from "../frame";
import { useOpened } from "../lately";
import { ListPage, useList } from "../list";
import { isOne } from "../roles";
import { Applications } from "./applications";
import { Courses } from "./courses";
import { LettingIn } from "./letting-in";
import { LookAs } from "./look-as";
import { Notes } from "./notes";
import { Organisation } from "./organisation";
import { Overrides } from "./overrides";
import { OwnData } from "./own-data";
import { Suspension } from "./suspension";

export function Consumers() {
  const list = useList("/consumers", (query) => api.get("/consumers", { params: { query } }));
  return (
    <ListPage
      title="Consumers"
      sub={
        <>
          Organisations that call the APIs. Calls are those of the last 28 days ·{" "}
          <Link className="figure-link" to="/admit/imports">
            bring some in from a file
          </Link>
        </>
      }
      list={list}
      reading="Reading the consumers"
      empty="Nobody has signed up yet. They do on the portal."
      id={(c) => c.id}
      address={(c) => `/admit/consumers/${c.id}`}
      words="Named"
      columns={[
        { head: "Consumer", cell: (c) => c.name, sort: "name" },
        { head: "Plans", cell: (c) => c.plans.join(", ") || <span className="text-soft">none</span> },
        { head: "Since", cell: (c) => dayAndYear(c.since), sort: "since" },
        { head: "Served", cell: (c) => count(c.served), sort: "served", number: true },
        { head: "Refused", cell: (c) => count(c.refused), sort: "refused", number: true },
        {
          head: "State",
          cell: (c) => c.state,
          sort: "state",
          look: (c) => (c.state === "let in" ? "text-soft" : "text-brass"),
        },
      ]}
    />
  );
}

export function Consumer() {
  const { id } = useParams();
  const one = useQuery({ ...consumer(Number(id)), refetchInterval: 5_000 });
  const roles = useQuery(me()).data?.roles;
  const c = one.data;
  useOpened(c?.line.name);
  if (!c)
    return (
      <Page title="Consumer">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the consumer" />}
      </Page>
    );
  const since = Date.parse(c.calls_since) * 1000;
  return (
    <Page
      title={c.line.name}
      sub={`Consumer since ${dayAndYear(c.line.since)}, by ${c.portal} · ${c.line.plans.join(", ") || "on no plan"}`}
      margin={
        <>
          <Aside title="This period so far">
            <p className="font-serif text-[24px] text-brass">{amount(c.running)}</p>
            <p className="text-soft">before tax, by what is recorded now</p>
            {c.pays && <Pair name="Pays">{c.pays}</Pair>}
          </Aside>
          {Number(c.owed.credit) > 0 && (
            <Aside title="On account">
              <p className="font-serif text-[24px] text-brass">{amount(c.owed.credit)}</p>
              <p className="text-soft">
                credit, for the next invoice ·{" "}
                <Link className="figure-link" to={`/settle/accounts/${id}`}>
                  the account
                </Link>
              </p>
            </Aside>
          )}
          {c.owed.invoices > 0 && (
            <Aside title="Owed">
              <p className="font-serif text-[24px] text-brass">
                <Link className="figure-link" to={`/settle/accounts/${id}`}>
                  {amount(c.owed.total)}
                </Link>
              </p>
              <p className="text-soft">
                by{" "}
                <a className="figure-link" href="#invoices">
                  {plural(c.owed.invoices, "invoice")}
                </a>{" "}
                that {c.owed.invoices === 1 ? "is" : "are"} not paid whole
                {c.owed.past_due > 0 && (
                  <span className="text-madder">
                    , {c.owed.past_due < c.owed.invoices && `${count(c.owed.past_due)} of them `}past the day
                    due
                  </span>
                )}
                {c.owed.paused && <span className="text-madder">; its calls are paused</span>}
              </p>
            </Aside>
          )}
          <Aside title="Last 28 days">
            <Pair name="Served">
              <Link className="figure-link" to={`/observe/traffic?consumer=${id}&since_us=${since}`}>
                {count(c.line.served)}
              </Link>
            </Pair>
            <Pair name="Refused">
              <Link
                className="figure-link"
                to={`/observe/traffic?consumer=${id}&verdict=refused&since_us=${since}`}
              >
                {count(c.line.refused)}
              </Link>
            </Pair>
          </Aside>
          <Organisation of={c} />
        </>
      }
    >
      {["waiting", "turned away"].includes(c.line.state) && <LettingIn consumer={c} />}
      <Suspension of={c}>
        <LookAs of={c} />
      </Suspension>
      <Section title="Allowances">
        {c.gauges.map((g) => (
          <div key={g.subscription_id + g.name} className="border-b border-line-soft py-2.5">
            <div className="mb-1.5">
              {g.application} on {g.product} · {g.plan}, {g.name}:{" "}
              <span className="text-soft">{g.sentence}</span>
            </div>
            <div className="max-w-[560px]">
              <AllowanceGauge of={g} />
            </div>
          </div>
        ))}
        {c.gauges.length === 0 && <p className="py-2 text-soft">No plan with an allowance.</p>}
      </Section>
      <Section title="Applications and keys">
        <Applications of={c} />
      </Section>
      <Section title="Subscriptions">
        <Courses of={c} />
      </Section>
      <Overrides consumer={c} />
      <Section title="Requests">
        {c.requests.length === 0 && <p className="py-2 text-soft">It has asked for nothing yet.</p>}
        {c.requests.map((r) => (
          <p key={r.id} className="border-b border-line-soft py-1.5">
            <Link className="figure-link" to={`/admit/desk/${r.id}`}>
              {r.application} for {r.product} · {r.plan}
            </Link>
            : {r.state} <span className="text-soft">since {dayAndYear(r.decided_at ?? r.created_at)}</span>
          </p>
        ))}
      </Section>
      <Section title="Invoices" id="invoices">
        {c.invoices.length === 0 && <p className="py-2 text-soft">None yet; a charge run makes them.</p>}
        {c.invoices.length > 0 && (
          <Table
            rows={c.invoices}
            id={(i) => i.id}
            columns={[
              {
                head: "Invoice",
                cell: (i) => (
                  <Link className="figure-link" to={`/settle/invoices/${i.id}`}>
                    {i.number ?? (i.state === "draft" ? "a draft" : "none")}
                  </Link>
                ),
              },
              {
                head: "For",
                cell: (i) => (
                  <>
                    {month(i.period_start)}
                    {i.consumer_id !== c.line.id && <span className="text-soft"> of {i.consumer}</span>}
                  </>
                ),
              },
              { head: "State", cell: (i) => i.state },
              { head: "Due", cell: (i) => (i.due_on ? date(i.due_on) : "") },
              {
                head: "Total",
                cell: (i) => amount(i.total, i.currency),
                number: true,
                look: "text-brass",
              },
            ]}
          />
        )}
      </Section>
      <Section title="Questions">
        {c.questions.length === 0 && <p className="py-2 text-soft">Its members have asked nothing.</p>}
        {c.questions.map((q) => (
          <p key={q.id} className="border-b border-line-soft py-1.5">
            <Link className="figure-link" to={`/admit/questions/${q.id}`}>
              {q.title}
            </Link>{" "}
            <span className="text-soft">
              about {q.product}, {dayAndYear(q.asked_at)}
              {q.state !== "shown" && `; ${q.state}`}
            </span>
          </p>
        ))}
      </Section>
      <Section title="Letters">
        {c.letters.length === 0 && <p className="py-2 text-soft">Nothing was written to its members yet.</p>}
        {c.letters.map((l) => (
          <p key={l.id} className="border-b border-line-soft py-1.5">
            {l.subject}{" "}
            <span className="text-soft">
              to {l.recipient}, {dayAndMinute(l.written_at)}
            </span>
            {l.state !== "sent" && <span className="text-brass"> {l.state}</span>}
          </p>
        ))}
        {isOne(roles, ["product manager", "operations", "owner"]) && (
          <p className="py-1.5">
            <Link className="figure-link" to="/house/letters">
              The mail log
            </Link>
          </p>
        )}
      </Section>
      <Section title="Notes inside">
        <Notes of={c} />
      </Section>
      <Section title="Its data">
        <OwnData of={c} />
      </Section>
      <Section title="On the record">
        {c.record.map((e) => (
          <p key={e.id} className="border-b border-line-soft py-1.5">
            {e.actor || e.by} {e.action || "did something"}{" "}
            <span className="text-soft">{dayAndMinute(e.at)}</span>
            {e.why && <span className="text-soft"> “{e.why}”</span>}
          </p>
        ))}
        <p className="py-1.5">
          <Link className="figure-link" to={`/record?words=${encodeURIComponent(c.line.name)}`}>
            All of it
          </Link>
        </p>
      </Section>
    </Page>
  );
}

function Section({ title, id, children }: { title: string; id?: string; children: React.ReactNode }) {
  return (
    <section id={id} className="mt-6" aria-label={title}>
      <h2 className="border-b border-line pb-1">{title}</h2>
      {children}
    </section>
  );
}
