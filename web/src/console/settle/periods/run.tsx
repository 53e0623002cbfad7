import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { chargeRun, STALE } from "../../../api/queries/settle";
import { Trouble, WordButton } from "../../../kit/controls";
import { amount, count, plural } from "../../../kit/format";

type Run = Console["RunView"];

/** A charge run while it goes on, and what came of it. It goes on when one leaves. */
export function Going({ of, finance }: { of: Run; finance: boolean }) {
  const stale = useStale();
  const run = useQuery(chargeRun(of.id)).data ?? of;
  const params = { path: { run_id: run.id } };
  const stop = useMutation({
    mutationFn: () => api.post("/charge-runs/{run_id}/stop", { params }),
    onSuccess: () => stale(STALE.invoices),
  });
  const resume = useMutation({
    mutationFn: () => api.post("/charge-runs/{run_id}/resume", { params }),
    onSuccess: () => stale(STALE.invoices),
  });
  const was = useRef(run.state);
  useEffect(() => {
    if (was.current === "running" && run.state !== "running") void stale(STALE.invoices);
    was.current = run.state;
  }, [run.state, stale]);
  return (
    <section aria-label="Charge run" data-run={run.id} className="mt-4 border-y border-line py-3">
      <p role="status">
        <Said of={run} />{" "}
        {finance && run.state === "running" && <WordButton onClick={() => stop.mutate()}>stop</WordButton>}
        {finance && run.state === "stopped" && <WordButton onClick={() => resume.mutate()}>go on</WordButton>}
      </p>
      {run.state === "running" && (
        <progress className="mt-2 w-full max-w-[420px] accent-kelp" max={run.planned} value={run.done}>
          {count(run.done)} of {count(run.planned)}
        </progress>
      )}
      {run.refused.map((each) => (
        <p key={each.invoice_id} className="mt-1 text-madder">
          <Link className="figure-link" to={`/settle/invoices/${each.invoice_id}`}>
            {each.consumer}
          </Link>{" "}
          was not issued: {each.why}.
        </p>
      ))}
      <Trouble error={stop.error ?? resume.error} />
    </section>
  );
}

function Said({ of: run }: { of: Run }) {
  const issues = run.kind === "issue";
  const so = `${count(run.done)} of ${plural(run.planned, issues ? "draft" : "consumer")}`;
  if (run.state === "running") return `${issues ? "Issuing" : "Drafting"}: ${so} …`;
  if (run.state === "stopped") return `Stopped at ${so}. What came of it stays.`;
  if (issues)
    return `${plural(run.invoices, "invoice")} issued, of together ${amount(run.total)} with tax${run.nothing_due ? `; nothing was due of ${count(run.nothing_due)}` : ""}.`;
  return `${plural(run.invoices, "draft invoice")} made, of together ${amount(run.total)} with tax${run.left_alone ? `; ${count(run.left_alone)} left alone, because issued` : ""}.`;
}
