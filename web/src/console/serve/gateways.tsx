import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { health as ofHealth, STALE } from "../../api/queries/serve";
import { Trouble, Waiting, WordButton } from "../../kit/controls";
import { clock, count, dayAndMinute, plural } from "../../kit/format";
import { Listing, type ListOf } from "../../kit/list";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";
import { useList } from "../list";

type Instance = Console["InstanceView"];

/** How the gateways are: whether each has the newest terms, can count and can record. */
export function Gateways() {
  const health = useQuery(ofHealth());
  const all = health.data?.instances ?? [];
  const gateways = all.filter((i) => i.kind === "gateway");
  const failed = useList("/jobs", (query) => api.get("/jobs", { params: { query } }), { every: 5_000 });
  const givenUp = failed.rows.filter((job) => job.given_up).length;
  const trouble = all.flatMap(troubles);
  if (givenUp > 0) trouble.push(`${plural(givenUp, "job")} failed until given up.`);
  return (
    <Page
      title="Gateways"
      sub={
        health.data &&
        `What decides on calls, as each last reported. Terms, keys or subscriptions last changed ${
          health.data.changed_at ? dayAndMinute(health.data.changed_at) : "never"
        }.`
      }
      margin={
        <>
          <Aside title="What needs somebody">
            {trouble.length === 0 ? (
              <p className="text-soft">Nothing. Every process has reported within five seconds.</p>
            ) : (
              trouble.map((words) => (
                <p key={words} className="mb-1 text-madder">
                  {words}
                </p>
              ))
            )}
          </Aside>
          <Aside title="For machines">
            <p className="text-soft">
              Each gateway answers /healthz and /readyz at its address, and OpenMetrics at /metrics on a port
              of its own.
            </p>
          </Aside>
        </>
      }
    >
      <Trouble error={health.error} />
      {health.isPending && <Waiting words="Asking how they are" />}
      {health.data && gateways.length === 0 && (
        <p className="mt-4 text-soft">No gateway has reported within a day. ./calm start starts one.</p>
      )}
      {gateways.length > 0 && (
        <Table
          className="mt-4"
          rows={gateways}
          id={(g) => g.name}
          columns={[
            {
              head: "Gateway",
              cell: (g) => (
                <>
                  {g.name}
                  <div className={`text-[12px] ${g.alive ? "text-soft" : "text-madder"}`}>{since(g)}</div>
                </>
              ),
            },
            {
              head: "Terms it knows",
              cell: (g) => (
                <>
                  {g.behind ? `${plural(g.behind, "change")} behind` : "the newest"}
                  <div className="text-[12px] text-soft">looked {said(g, "snapshot_age_ms")} ms ago</div>
                </>
              ),
            },
            {
              head: "Counts",
              cell: (g) => said(g, "counters"),
              look: (g) => (g.report.counters_away ? "text-madder" : ""),
            },
            { head: "To ship", cell: (g) => plural(Number(said(g, "backlog")), "segment"), number: true },
            { head: "Shipped to", cell: (g) => count(Number(said(g, "shipped"))), number: true },
            { head: "Calls", cell: (g) => count(Number(said(g, "calls"))), number: true },
            {
              head: "Refused",
              number: true,
              cell: (g) => (
                <>
                  {count(Number(said(g, "refused")))}
                  {Number(said(g, "left_out")) > 0 && (
                    <div className="text-[12px] text-soft">
                      {count(Number(said(g, "left_out")))} of nobody known, counted only
                    </div>
                  )}
                </>
              ),
            },
            { head: "In flight", cell: (g) => count(Number(said(g, "in_flight"))), number: true },
          ]}
        />
      )}
      {health.data && <Processes all={all} version={health.data.version} />}
      <FailedJobs list={failed} />
      <SetAside />
    </Page>
  );
}

/** Every process: since when it is up, what it does, and which version it is of. */
function Processes({ all, version }: { all: Instance[]; version: string }) {
  return (
    <section className="mt-7">
      <h2 className="border-b border-line pb-1">Processes</h2>
      <p className="py-2 text-soft">This page comes from version {version}.</p>
      <Table
        rows={all}
        id={(of) => of.name}
        columns={[
          { head: "Process", cell: (of) => of.name },
          { head: "How it is", cell: since, look: (of) => (of.alive ? "" : "text-madder") },
          { head: "What it did", cell: work },
          {
            head: "Version",
            cell: (of) => said(of, "version"),
            look: (of) => (of.report.version === version ? "" : "text-brass"),
          },
        ]}
      />
    </section>
  );
}

function since(of: Instance): string {
  return of.alive ? `up since ${dayAndMinute(of.started_at)}` : `silent since ${clock(of.seen_at)}`;
}

function work(of: Instance): string {
  if (of.kind === "gateway") return `${plural(Number(said(of, "calls")), "call")} decided on`;
  if (of.kind === "worker")
    return `${plural(Number(said(of, "shipped_calls")), "call")} shipped, ${plural(Number(said(of, "jobs_done")), "job")} done`;
  return "answers console, portal and their APIs";
}

/** Work that failed: what it was about, why, and when it is tried again, if it is. */
function FailedJobs({ list }: { list: ListOf<Console["JobView"]> }) {
  const stale = useStale();
  const again = useMutation({
    mutationFn: (id: number) => api.post("/jobs/{job_id}/again", { params: { path: { job_id: id } } }),
    onSettled: () => stale(STALE.job),
  });
  return (
    <section className="mt-7">
      <h2 className="border-b border-line pb-1">Work that failed</h2>
      <Trouble error={again.error} />
      {list.rows.length > 0 && (
        <p className="py-2 text-soft">
          Each is tried again after a pause that grows, until it is given up; then it waits for somebody.
        </p>
      )}
      <Listing
        list={list}
        id={(job) => job.id}
        reading="Looking what failed"
        empty="None. A letter, a ticket or a chore that cannot be done stands here with its error until it is."
        columns={[
          {
            head: "What",
            cell: (job) => (
              <>
                {job.kind}
                {job.about !== job.kind && <div className="text-[12px] text-soft">{job.about}</div>}
              </>
            ),
          },
          { head: "Error", cell: (job) => job.last_error, look: "break-words" },
          { head: "Tried", cell: (job) => count(job.attempts), number: true },
          {
            head: "Next",
            cell: (job) => (job.given_up ? "given up" : dayAndMinute(job.run_at)),
            look: (job) => `whitespace-nowrap ${job.given_up ? "text-madder" : ""}`,
          },
          {
            head: "Do",
            quiet: true,
            cell: (job) => <WordButton onClick={() => again.mutate(job.id)}>Try again</WordButton>,
            look: "whitespace-nowrap",
          },
        ]}
      />
    </section>
  );
}

/** Repeats of recorded calls that say something else: shown, and counted by nobody. */
function SetAside() {
  const list = useList("/set-aside", (query) => api.get("/set-aside", { params: { query } }), {
    every: 5_000,
  });
  return (
    <section className="mt-7">
      <h2 className="border-b border-line pb-1">Set aside</h2>
      {list.rows.length > 0 && (
        <p className="py-2 text-soft">
          Calls that were told again with something else of them. What was recorded first counts; this counts
          nothing.
        </p>
      )}
      <Listing
        list={list}
        id={(s) => s.id}
        reading="Looking what is set aside"
        empty="Nothing. A call that is told again with something else of it would stand here, and count nothing."
        columns={[
          { head: "Came", cell: (s) => dayAndMinute(s.seen_at), look: "whitespace-nowrap" },
          {
            head: "Call",
            cell: (s) => (
              <Link className="figure-link" to={`/observe/traffic?call=${s.call_id}`}>
                {s.call_id}
              </Link>
            ),
          },
          { head: "From", cell: (s) => s.source, look: "whitespace-nowrap" },
          { head: "What it says otherwise", cell: (s) => s.differs.join("; ") },
        ]}
      />
    </section>
  );
}

const said = (of: Instance, name: string) => String(of.report[name] ?? 0);

function troubles(of: Instance): string[] {
  const found: string[] = [];
  if (!of.alive) found.push(`${of.name} has not reported since ${clock(of.seen_at)}.`);
  const again = Number(of.report.started_again ?? 0);
  if (again > 0)
    found.push(
      `${of.name} has been started again ${again === 1 ? "once" : `${again} times`}; it last ended ${said(of, "ended_with")}.`,
    );
  for (const [thread, times] of Object.entries((of.report.begun_again as Record<string, number>) ?? {}))
    found.push(
      `${of.name}: its ${thread} broke off and was begun again ${times === 1 ? "once" : `${times} times`}.`,
    );
  if (of.report.fault) found.push(`${of.name} cannot record calls and serves none: ${said(of, "fault")}.`);
  if (of.report.counters_away) found.push(`${of.name}: ${said(of, "counters")}.`);
  if (Number(said(of, "backlog")) > 20)
    found.push(`${of.name} has ${said(of, "backlog")} segments to ship; is the worker well?`);
  const resting = (of.report.resting as string[] | undefined) ?? [];
  if (resting.length)
    found.push(`${of.name} leaves ${plural(resting.length, "back end")} alone after failures.`);
  return found;
}
