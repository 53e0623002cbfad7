import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { BEGINS } from "../../api/begins";
import type { Portal } from "../../api/portal";
import { runningMonth } from "../../api/queries/portal";
import { Trouble, Waiting, WordButton } from "../../kit/controls";
import { amount, count, listed, month } from "../../kit/format";
import { Table } from "../../kit/table";

type Running = Portal["RunningMonth"];

/** What the running month comes to, so far and should it go on so; it opens to its lines. */
export function Running() {
  const query = useQuery(runningMonth());
  const [open, setOpen] = useState(false);
  const of = query.data;
  return (
    <section aria-label="What the month comes to">
      <h2 className="mb-1 text-[18px]">What the month comes to</h2>
      <Trouble error={query.error} />
      {query.isPending && <Waiting words="Working out what the month comes to" />}
      {of && of.lines.length === 0 && (
        <p className="text-soft">Nothing so far: no plan of yours has charges here.</p>
      )}
      {of && of.billed_outside.length > 0 && (
        <p className="mt-1 text-soft">
          Use of {listed(of.billed_outside)} is billed elsewhere, and stands on no invoice of ours.
        </p>
      )}
      {of && of.lines.length > 0 && (
        <>
          <p>
            <span className="font-serif text-[26px]">{amount(of.now.subtotal, of.currency)}</span> for{" "}
            {month(of.month)} so far, on day {of.days_so_far} of {of.days}; with tax{" "}
            {amount(of.now.total, of.currency)}.
          </p>
          <p className="mt-1">
            Should use go on as it has,{" "}
            <b className="font-semibold">{amount(of.then.subtotal, of.currency)}</b> at its end; with tax{" "}
            {amount(of.then.total, of.currency)}.
          </p>
          <p className="mt-1 text-[13px]">
            <WordButton onClick={() => setOpen(!open)}>
              {open ? "close the lines" : "open the lines"}
            </WordButton>
            <span className="text-soft">
              {" "}
              · as{" "}
              <a className="figure-link" href={`${BEGINS}/api/v1/running-month.csv`} download>
                CSV
              </a>
              ,{" "}
              <a
                className="figure-link"
                href={`${BEGINS}/api/v1/running-month`}
                download="running-month.json"
              >
                JSON
              </a>
            </span>
          </p>
          {open && <Lines of={of} />}
        </>
      )}
    </section>
  );
}

function Lines({ of }: { of: Running }) {
  const money = (value: string | null) => (value === null ? "" : amount(value, of.currency));
  return (
    <Table
      tight
      className="mt-2 text-[13px]"
      rows={of.lines}
      id={(_, at) => at}
      above={(line, at) => {
        const last = of.lines[at - 1];
        const same = last?.subscription_id === line.subscription_id && last.plan === line.plan;
        return (
          !same && (
            <span>
              <Link className="figure-link" to={`/subscriptions/${line.subscription_id}`}>
                {line.application}
              </Link>{" "}
              on {line.plan}
              {line.trial && ", on trial"}
            </span>
          )
        );
      }}
      columns={[
        {
          head: "Line",
          cell: (line) => (
            <>
              {line.label}
              {line.quantity !== null && (
                <span className="text-soft">
                  {" "}
                  {count(Math.round(Number(line.quantity)))}
                  {line.quantity_then !== null && `, then ${count(line.quantity_then)}`}
                </span>
              )}
              <div className="text-[12px] text-soft">{line.rule}</div>
            </>
          ),
        },
        { head: "So far", number: true, cell: (line) => money(line.amount) },
        { head: "Then", number: true, cell: (line) => money(line.amount_then) },
      ]}
      foot={
        <tr className="font-semibold">
          <td>Before tax</td>
          <td className="text-right">{money(of.now.subtotal)}</td>
          <td className="text-right">{money(of.then.subtotal)}</td>
        </tr>
      }
    />
  );
}
