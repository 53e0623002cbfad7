import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { bundles, STALE } from "../../../api/queries/settle";
import { Trouble, WordButton } from "../../../kit/controls";
import { dayAndMinute, plural } from "../../../kit/format";
import { Progress } from "../../../kit/progress";
import { Aside } from "../../frame";

/** What was issued for a period as files: lines, cost and usage rows, and all documents in one archive. */
export function Exports({ start, issued, finance }: { start: string; issued: boolean; finance: boolean }) {
  const list = useQuery({ ...bundles(start), enabled: issued });
  const stale = useStale();
  const [key, setKey] = useState(() => crypto.randomUUID());
  const onSettled = () => stale(STALE.bundles);
  const begin = useMutation({
    mutationFn: () =>
      api.post("/periods/{start}/bundles", {
        params: { path: { start }, header: { "idempotency-key": key } },
      }),
    onSettled: () => {
      setKey(crypto.randomUUID());
      return onSettled();
    },
  });
  const stop = useMutation({
    mutationFn: (id: number) =>
      api.post("/bundles/{bundle_id}/stop", { params: { path: { bundle_id: id } } }),
    onSettled,
  });
  if (!issued) return null;
  const base = `/api/v1/periods/${start}`;
  const [last] = list.data ?? [];
  const going = last?.state === "running";
  return (
    <Aside title="As files">
      <p>
        <a className="figure-link" href={`${base}/lines.csv`} download>
          lines
        </a>{" "}
        · cost and usage (FOCUS 1.0) as{" "}
        <a className="figure-link" href={`${base}/cost-and-usage.csv`} download>
          CSV
        </a>{" "}
        or{" "}
        <a className="figure-link" href={`${base}/cost-and-usage.parquet`} download>
          Parquet
        </a>
      </p>
      {going && (
        <>
          <Progress done={last.done} of={last.planned} units="documents" words="put together" />
          {finance && (
            <WordButton onClick={() => stop.mutate(last.id)} disabled={stop.isPending}>
              stop
            </WordButton>
          )}
        </>
      )}
      {last?.state === "done" && (
        <p className="mt-1">
          <a className="figure-link" href={`/api/v1/bundles/${last.id}/documents.zip`} download>
            save all {plural(last.planned, "document")} as one archive
          </a>
          <span className="text-[13px] text-soft">
            , put together on {dayAndMinute(last.asked_at)} by {last.asked_by}
          </span>
        </p>
      )}
      {!list.isPending && !going && finance && (
        <p className="mt-1">
          <WordButton onClick={() => begin.mutate()} disabled={begin.isPending}>
            {last?.state === "done" ? "put them together anew" : "put all documents together in one archive"}
          </WordButton>
        </p>
      )}
      <Trouble error={begin.error ?? stop.error ?? list.error} />
    </Aside>
  );
}
