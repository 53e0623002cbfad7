import { useMutation, useQuery } from "@tanstack/react-query";
import { api, type Console } from "../../../api/console";
import { STALE, undoable } from "../../../api/queries/admit";
import { useStale } from "../../../api/queries/asking";
import { Button, Kbd, Trouble } from "../../../kit/controls";
import { clock } from "../../../kit/format";
import { useKeys } from "../../../kit/keys";

type Request = Console["RequestView"];

/** What was decided a moment ago: it can be undone until it is told. */
export function Undo() {
  const stale = useStale();
  const list = useQuery(undoable());
  const path = (r: Request) => ({ params: { path: { request_id: r.id } } });
  const undo = useMutation({
    mutationFn: (r: Request) => api.delete("/requests/{request_id}/decision", path(r)),
    onSettled: () => stale(STALE.request),
  });
  const tell = useMutation({
    mutationFn: (r: Request) => api.post("/requests/{request_id}/telling", path(r)),
    onSettled: () => stale(STALE.request),
  });
  const rows = list.data?.rows ?? [];
  const latest = rows[0];
  const busy = undo.isPending || tell.isPending;
  useKeys({ u: latest && !busy ? () => undo.mutate(latest) : undefined });
  if (rows.length === 0 && !undo.error && !tell.error) return null;
  return (
    <section aria-label="Decided just now" className="mt-3 border-l-[3px] border-brass pl-3">
      {rows.map((r, n) => (
        <p key={r.id} className="flex flex-wrap items-baseline gap-x-3 gap-y-1 py-1">
          <span>
            {r.state === "granted" ? "Granted" : "Declined"}: {r.application} of {r.consumer}, {r.product} ·{" "}
            {r.plan}. {r.asked_by} hears of it{" "}
            {r.undo_until ? `at ${clock(r.undo_until).slice(0, 8)}` : "now"}.
          </span>
          <Button small disabled={busy} onClick={() => undo.mutate(r)}>
            Undo
          </Button>
          {n === 0 && <Kbd>u</Kbd>}
          <Button small disabled={busy} onClick={() => tell.mutate(r)}>
            Tell them now
          </Button>
        </p>
      ))}
      <Trouble error={undo.error ?? tell.error} />
    </section>
  );
}
