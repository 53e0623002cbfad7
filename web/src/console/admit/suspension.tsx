import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { me } from "../../api/queries/house";
import { Button, Dialog, Note, Trouble, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { dayAndMinute, plural } from "../../kit/format";
import { isOne } from "../roles";

type Consumer = Console["ConsumerView"];

/** Whether the consumer's calls are let through, and what stops and resumes them, before what else can be done. */
export function Suspension({ of: c, children }: { of: Consumer; children?: React.ReactNode }) {
  const stale = useStale();
  const may = isOne(useQuery(me()).data?.roles, ["product manager", "operations"]);
  const [asking, setAsking] = useState(false);
  const path = { params: { path: { consumer_id: c.line.id } } };
  const resume = useMutation({
    mutationFn: () => api.delete("/consumers/{consumer_id}/suspension", path),
    onSettled: () => stale(STALE.suspension),
  });
  const now = c.suspensions.find((s) => s.end_at === null);
  const before = c.suspensions.filter((s) => s.end_at !== null);
  return (
    <>
      {now && (
        <Note>
          Suspended by {now.suspended_by} since {dayAndMinute(now.start_at)}: no call is let through. “
          {now.reason}”
          {may && (
            <div className="mt-1.5">
              <Button small main disabled={resume.isPending} onClick={() => resume.mutate()}>
                Let its calls through again
              </Button>
            </div>
          )}
          <Trouble error={resume.error} />
        </Note>
      )}
      {before.map((s) => (
        <p key={s.start_at} className="text-[13px] text-soft">
          It was suspended from {dayAndMinute(s.start_at)} until {s.end_at && dayAndMinute(s.end_at)}: “
          {s.reason}”
        </p>
      ))}
      <div className="mt-2 flex gap-5">
        {may && c.line.state === "let in" && (
          <WordButton onClick={() => setAsking(true)}>suspend it</WordButton>
        )}
        {children}
      </div>
      {asking && <Suspend of={c} onClose={() => setAsking(false)} />}
    </>
  );
}

function Suspend({ of: c, onClose }: { of: Consumer; onClose: () => void }) {
  const stale = useStale();
  const keys = c.applications.flatMap((a) => a.keys).filter((k) => ["active", "retiring"].includes(k.state));
  const entry = useEntry({
    start: { reason: "" },
    send: (body) =>
      api.put("/consumers/{consumer_id}/suspension", { params: { path: { consumer_id: c.line.id } }, body }),
    done: async () => {
      await stale(STALE.suspension);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Suspend ${c.line.name}`}>
      <p className="mb-3">
        Within a second every call with {keys.length === 1 ? "its key" : `its ${plural(keys.length, "key")}`}{" "}
        is refused, in the sandbox as well. Its subscriptions go on, and so do their charges.{" "}
        {plural(c.members.length, "member is", "members are")} told by mail, with your reason.
      </p>
      <Form of={entry}>
        <Line name="reason" label="Why, for its members" area required />
        <Ends onLeave={onClose}>
          <Send>Refuse the calls of {c.line.name}</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
