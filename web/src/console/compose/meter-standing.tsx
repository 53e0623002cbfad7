import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { dependents, STALE } from "../../api/queries/compose";
import { Button, Dialog, Trouble, WordButton } from "../../kit/controls";
import { dayAndYear, plural } from "../../kit/format";
import { NameDialog } from "../../kit/name-dialog";

type View = Console["MeterView"];

/** What can be done with a kept meter: sealed ones are renamed, paused, cloned or archived only. */
export function Standing({ meter }: { meter: View }) {
  const stale = useStale();
  const navigate = useNavigate();
  const [asked, setAsked] = useState<"paused" | "archived" | "clone" | null>(null);
  const move = useMutation({
    mutationFn: (state: Console["MeterStateIn"]["state"]) =>
      api.put("/meters/{meter_id}/state", { params: { path: { meter_id: meter.id } }, body: { state } }),
    onSuccess: async () => {
      setAsked(null);
      await stale(STALE.meter);
    },
  });
  return (
    <>
      {meter.sealed_at
        ? `Sealed on ${dayAndYear(meter.sealed_at)}: charges depend on what it counts, so it is renamed, paused, cloned or archived only.`
        : "Not yet used by a published plan; it can still be changed."}{" "}
      {meter.state !== "active" && (
        <b className="font-semibold text-madder">It is {meter.state} and counts nothing. </b>
      )}
      {meter.priced_by.length > 0 && `Priced by ${meter.priced_by.join(", ")}. `}
      <span className="inline-flex gap-3">
        {meter.state !== "active" && (
          <WordButton onClick={() => move.mutate("active")}>count again</WordButton>
        )}
        {meter.state === "active" && <WordButton onClick={() => setAsked("paused")}>pause…</WordButton>}
        <WordButton onClick={() => setAsked("clone")}>clone…</WordButton>
        {meter.state !== "archived" && <WordButton onClick={() => setAsked("archived")}>archive…</WordButton>}
      </span>
      <Trouble error={!asked && move.error} />
      {(asked === "paused" || asked === "archived") && (
        <StopCounting
          meter={meter}
          state={asked}
          error={move.error}
          onClose={() => setAsked(null)}
          onGo={() => move.mutate(asked)}
        />
      )}
      {asked === "clone" && (
        <NameDialog
          title={`A copy of ${meter.name}`}
          verb="Make the copy"
          onClose={() => setAsked(null)}
          send={async (name) => {
            const path = { meter_id: meter.id };
            const made = await api.post("/meters/{meter_id}/clone", { params: { path }, body: { name } });
            setAsked(null);
            await stale(STALE.meter);
            navigate(`/compose/meters/${made.id}`);
          }}
        />
      )}
    </>
  );
}

function StopCounting({
  meter,
  state,
  error,
  onClose,
  onGo,
}: {
  meter: View;
  state: "paused" | "archived";
  error: unknown;
  onClose: () => void;
  onGo: () => void;
}) {
  const touched = useQuery(dependents(meter.id));
  const rows = touched.data ?? [];
  const verb = state === "paused" ? "Pause" : "Archive";
  return (
    <Dialog open onClose={onClose} title={`${verb} ${meter.name}`}>
      <p className="mb-2">
        While it is {state}, calls are not counted: nothing is charged by it, and its allowances do not fill.
        What is recorded stays.
      </p>
      {rows.length > 0 ? (
        <>
          <p>This changes the charges or allowances of {plural(rows.length, "consumer")}:</p>
          <ul className="my-2 max-h-56 overflow-y-auto">
            {rows.map((d) => (
              <li key={d.consumer + d.plan} className="border-b border-line-soft py-1">
                {d.consumer}, on {d.plan}
              </li>
            ))}
          </ul>
        </>
      ) : (
        <p className="text-soft">Nobody's charges depend on it now.</p>
      )}
      <Trouble error={error} />
      <div className="mt-3 flex justify-end gap-2">
        <Button onClick={onClose}>Leave it</Button>
        <Button main disabled={touched.isPending} onClick={onGo}>
          {rows.length ? `${verb} it for ${plural(rows.length, "consumer")}` : `${verb} it`}
        </Button>
      </div>
    </Dialog>
  );
}
