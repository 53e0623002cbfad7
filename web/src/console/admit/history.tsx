import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import type { Console } from "../../api/console";
import { subscriptionHistory } from "../../api/queries/admit";
import { Trouble, Waiting } from "../../kit/controls";
import { dayAndMinute } from "../../kit/format";
import { EVENTS } from "../../kit/request-words";
import { Table } from "../../kit/table";
import { Page } from "../frame";
import { useOpened } from "../lately";
import { Moving } from "./moving";

type Event = Console["HistoryEvent"];

const ABOUT: Record<Event["kind"], string> = {
  request: "Request",
  subscription: "Subscription",
  key: "Key",
  letter: "Letter",
  invoice: "Invoice",
  payment: "Payment",
};

/** A subscription from its first question to its last invoice. */
export function HistoryPage() {
  const { id } = useParams();
  const one = useQuery(subscriptionHistory(Number(id)));
  const of = one.data;
  useOpened(of && `${of.application}, history`);
  if (!of)
    return (
      <Page title="History">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the history" />}
      </Page>
    );
  return (
    <Page
      title={`${of.application} on ${of.product} · ${of.plan}`}
      sub={
        <>
          What both sides said and did, from the first question on. It is {of.state} ·{" "}
          <Link className="figure-link" to={`/admit/consumers/${of.consumer_id}`}>
            all of {of.consumer}
          </Link>
        </>
      }
    >
      <Moving id={Number(id)} />
      <Table
        className="mt-4"
        rows={of.events}
        id={(_, at) => at}
        columns={[
          { head: "When", cell: (e) => dayAndMinute(e.at), look: "whitespace-nowrap align-top" },
          {
            head: "About",
            look: "align-top",
            cell: (e) =>
              e.page ? (
                <Link className="figure-link" to={e.page}>
                  {ABOUT[e.kind]}
                </Link>
              ) : (
                ABOUT[e.kind]
              ),
          },
          {
            head: "What was said and done",
            cell: (e) => (
              <>
                <span className="text-soft">
                  {e.by} {e.kind === "request" ? (EVENTS[e.what] ?? e.what) : e.what}
                  {e.inside && " · inside"}
                </span>
                {e.text && <div className="max-w-[640px] whitespace-pre-line">{e.text}</div>}
              </>
            ),
          },
        ]}
      />
    </Page>
  );
}
