import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, type Console } from "../../../api/console";
import { STALE } from "../../../api/queries/admit";
import { useStale } from "../../../api/queries/asking";
import { Button, Dialog, Field, Trouble, Waiting } from "../../../kit/controls";
import { amount, plural } from "../../../kit/format";
import { Table } from "../../../kit/table";
import { Reason } from "./reasons";

type Request = Console["RequestView"];
type Decision = Console["DecisionIn"]["decision"];

/** One decision on several requests, with one summary to agree to. */
export function Bulk({ of, done }: { of: Request[]; done: () => void }) {
  const [decision, setDecision] = useState<Decision | null>(null);
  return (
    <div className="mt-3 flex items-center gap-3 border-y border-line py-2">
      <span>{plural(of.length, "request")} chosen</span>
      <Button small main onClick={() => setDecision("granted")}>
        Grant them
      </Button>
      <Button small onClick={() => setDecision("declined")}>
        Decline them
      </Button>
      <Button small onClick={done}>
        Choose none
      </Button>
      {decision && <Summary of={of} decision={decision} onClose={() => setDecision(null)} done={done} />}
    </div>
  );
}

function Summary({
  of,
  decision,
  onClose,
  done,
}: {
  of: Request[];
  decision: Decision;
  onClose: () => void;
  done: () => void;
}) {
  const stale = useStale();
  // As they were when it opened: what is agreed to is what is shown.
  const [chosen] = useState(() => of.map((r) => ({ request_id: r.id, edition: r.edition })));
  const [note, setNote] = useState("");
  const [reason, setReason] = useState("");
  const body = { requests: chosen, decision, note, reason };
  const foresee = useMutation({
    mutationFn: () => api.post("/requests/summary", { body: { ...body, note: "", reason: "" } }),
  });
  const decide = useMutation({
    mutationFn: () => api.post("/requests/decisions", { body }),
    onSuccess: () => stale(STALE.request),
  });
  const { mutate: look } = foresee;
  useEffect(() => look(), [look]);
  const outcomes = decide.data ?? foresee.data?.outcomes;
  const said = (o: Console["Outcome"]) =>
    o.refused || (o.still_needs ? `agreed to; it still needs ${o.still_needs}` : o.done);
  const able = outcomes?.filter((o) => !o.refused).length ?? 0;
  return (
    <Dialog
      wide
      open
      onClose={decide.data ? done : onClose}
      title={decision === "granted" ? "Grant these requests" : "Decline these requests"}
    >
      {!outcomes && !foresee.error && <Waiting words="Looking what comes of it" />}
      <Trouble error={foresee.error} />
      {outcomes && (
        <Table
          rows={outcomes}
          id={(o) => o.request_id}
          columns={[
            { head: "Consumer", cell: (o) => o.consumer },
            { head: "For", cell: (o) => `${o.application}, ${o.offer}` },
            { head: "A month, expected", number: true, cell: (o) => amount(o.weight) },
            {
              head: decide.data ? "Came of it" : "Comes of it",
              cell: (o) => <span className={o.refused ? "text-madder" : ""}>{said(o)}</span>,
            },
          ]}
        />
      )}
      {decide.data ? (
        <div className="mt-4 flex justify-end">
          <Button main onClick={done}>
            Back to the desk
          </Button>
        </div>
      ) : (
        foresee.data && (
          <>
            {decision === "granted" && (
              <p className="my-3">
                {plural(foresee.data.outcomes.filter((o) => o.done === "granted").length, "request")} would be
                granted, {amount(foresee.data.granted, foresee.data.currency)} a month expected, before tax.
              </p>
            )}
            {decision === "declined" && (
              <div className="mt-3">
                <Reason value={reason} onChange={setReason} />
              </div>
            )}
            <Field
              area
              label={
                decision === "granted"
                  ? "A note to all of them (it may stay empty)"
                  : "What you would say to them"
              }
              value={note}
              onChange={setNote}
            />
            <Trouble error={decide.error} />
            <div className="mt-3 flex justify-end gap-2">
              <Button onClick={onClose}>Leave it</Button>
              <Button main disabled={able === 0 || decide.isPending} onClick={() => decide.mutate()}>
                {decision === "granted" ? `Grant ${able}` : `Decline ${able}`}
              </Button>
            </div>
          </>
        )
      )}
    </Dialog>
  );
}
