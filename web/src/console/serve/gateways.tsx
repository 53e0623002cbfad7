import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { health as ofHealth, STALE } from "../../api/queries/serve";
import { Trouble, Waiting, WordButton } from "../../kit/controls";
import { clock, count, dayAndMinute, plural } from "../../kit/format";
import { Aside, Page } from "../frame";
import { ListFoot, type ListOf, useList } from "../list";

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
        <table className="plain-table mt-4">
          <thead>
            <tr>
              <th>Gateway</th>
              <th>Terms it knows</th>
              <th>Counts</th>
              <th className="number">To ship</th>
              <th className="number">Shipped to</th>
              <th className="number">Calls</th>
              <th className="number">Refused</th>
              <th className="number">In flight</th>
            </tr>
          </thead>
          <tbody>
            {gateways.map((g) => (
              <tr key={g.name}>
                <td>
                  {g.name}
                  <div className={`text-[12px] ${g.alive ? "text-soft" : "text-madder"}`}>
                    {g.alive ? `up since ${dayAndMinute(g.started_at)}` : `silent since ${clock(g.seen_at)}`}
                  </div>
                </td>
                <td>
                  {g.behind ? `${plural(g.behind, "change")} behind` : "the newest"}
                  <div className="text-[12px] text-soft">looked {said(g, "snapshot_age_ms")} ms ago</div>
                </td>
                <td className={g.report.counters_away ? "text-madder" : ""}>{said(g, "counters")}</td>
                <td className="number">{plural(Number(said(g, "backlog")), "segment")}</td>
                <td className="number">{count(Number(said(g, "shipped")))}</td>
                <td className="number">{count(Number(said(g, "calls")))}</td>
                <td className="number">
                  {count(Number(said(g, "refused")))}
                  {Number(said(g, "left_out")) > 0 && (
                    <div className="text-[12px] text-soft">
                      {count(Number(said(g, "left_out")))} of nobody known, counted only
                    </div>
                  )}
                </td>
                <td className="number">{count(Number(said(g, "in_flight")))}</td>
              </tr>
            ))}
          </tbody>
        </table>
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
      <table className="plain-table">
        <thead>
          <tr>
            <th>Process</th>
            <th>How it is</th>
            <th>What it did</th>
            <th>Version</th>
          </tr>
        </thead>
        <tbody>
          {all.map((of) => (
            <tr key={of.name}>
              <td>{of.name}</td>
              <td className={of.alive ? "" : "text-madder"}>
                {of.alive ? `up since ${dayAndMinute(of.started_at)}` : `silent since ${clock(of.seen_at)}`}
              </td>
              <td>{work(of)}</td>
              <td className={of.report.version === version ? "" : "text-brass"}>{said(of, "version")}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
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
      <Trouble error={list.error ?? again.error} />
      <p className="py-2 text-soft">
        {list.rows.length === 0
          ? "None. A letter, a ticket or a chore that cannot be done stands here with its error until it is."
          : "Each is tried again after a pause that grows, until it is given up; then it waits for somebody."}
      </p>
      {list.rows.length > 0 && (
        <table className="plain-table">
          <thead>
            <tr>
              <th>What</th>
              <th>Error</th>
              <th className="number">Tried</th>
              <th>Next</th>
              <th>
                <span className="sr-only">Do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {list.rows.map((job) => (
              <tr key={job.id}>
                <td>
                  {job.kind}
                  {job.about !== job.kind && <div className="text-[12px] text-soft">{job.about}</div>}
                </td>
                <td className="break-words">{job.last_error}</td>
                <td className="number">{count(job.attempts)}</td>
                <td className={`whitespace-nowrap ${job.given_up ? "text-madder" : ""}`}>
                  {job.given_up ? "given up" : dayAndMinute(job.run_at)}
                </td>
                <td className="whitespace-nowrap">
                  <WordButton onClick={() => again.mutate(job.id)}>Try again</WordButton>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <ListFoot of={list} />
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
      <Trouble error={list.error} />
      <p className="py-2 text-soft">
        {list.rows.length === 0
          ? "Nothing. A call that is told again with something else of it would stand here, and count nothing."
          : "Calls that were told again with something else of them. What was recorded first counts; this counts nothing."}
      </p>
      {list.rows.length > 0 && (
        <table className="plain-table">
          <thead>
            <tr>
              <th>Came</th>
              <th>Call</th>
              <th>From</th>
              <th>What it says otherwise</th>
            </tr>
          </thead>
          <tbody>
            {list.rows.map((s) => (
              <tr key={s.id}>
                <td className="whitespace-nowrap">{dayAndMinute(s.seen_at)}</td>
                <td>
                  <Link className="figure-link" to={`/observe/traffic?call=${s.call_id}`}>
                    {s.call_id}
                  </Link>
                </td>
                <td className="whitespace-nowrap">{s.source}</td>
                <td>{s.differs.join("; ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <ListFoot of={list} />
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
