import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, type Console } from "../../../api/console";
import { STALE } from "../../../api/queries/admit";
import { useStale } from "../../../api/queries/asking";
import { Button, Kbd, Trouble, WordButton } from "../../../kit/controls";
import { listed } from "../../../kit/format";
import { useKeys } from "../../../kit/keys";
import { Otherwise } from "./otherwise";
import { Reason } from "./reasons";

type Whole = Console["RequestWithBackground"];
type Grant = NonNullable<Console["DecisionIn"]["grant"]>;

/** Granting, declining and asking back, with the words that go with it. */
export function Decide({ of }: { of: Whole }) {
  const { request: r, background: b } = of;
  const stale = useStale();
  const navigate = useNavigate();
  const [note, setNote] = useState("");
  const [reason, setReason] = useState("");
  const [otherwise, setOtherwise] = useState(false);
  const field = useRef<HTMLTextAreaElement>(null);
  const at = { params: { path: { request_id: r.id }, header: { "if-match": `"${r.edition}"` } } };
  const decide = useMutation({
    mutationFn: ({ decision, grant }: { decision: "granted" | "declined"; grant?: Grant }) =>
      api.post("/requests/{request_id}/decision", {
        ...at,
        body: { decision, note, reason: decision === "declined" ? reason : "", grant: grant ?? null },
      }),
    onSuccess: async (answer) => {
      await stale(STALE.request);
      setNote("");
      if (answer.state !== "waiting") navigate("/admit/desk");
    },
    onError: () => {
      field.current?.focus();
      return stale(STALE.request);
    },
  });
  const ask = useMutation({
    mutationFn: () => api.post("/requests/{request_id}/question", { ...at, body: { text: note } }),
    onSuccess: async () => {
      setNote("");
      await stale(STALE.request);
    },
    onError: () => {
      field.current?.focus();
      return stale(STALE.request);
    },
  });
  const busy = decide.isPending || ask.isPending;
  const words = note.trim() !== "";
  const grant = () => decide.mutate({ decision: "granted" });
  const decline = () => (words || reason ? decide.mutate({ decision: "declined" }) : field.current?.focus());
  const askBack = () => (words ? ask.mutate() : field.current?.focus());
  useKeys(busy ? {} : { g: grant, d: decline, a: askBack });
  const several = !r.last;
  return (
    <section className="mt-5 max-w-[680px] border-t border-line pt-4" aria-label="Decide">
      <h2 className="sr-only">Decide</h2>
      {b.granted_otherwise.length > 0 && (
        <p className="mb-2 text-brass">
          It is to be granted otherwise than asked: {listed(b.granted_otherwise)}.
        </p>
      )}
      <p className="mb-3 text-soft">{b.on_granting.join(" ")}</p>
      <label className="block text-[13px] text-soft">
        Words for the consumer (needed to ask back, and to decline without a reason of the list)
        <textarea
          ref={field}
          rows={3}
          className="field text-ink"
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
      </label>
      <Reason value={reason} onChange={setReason} />
      <Trouble error={decide.error ?? ask.error} />
      <div className="mt-3 flex flex-wrap items-center gap-x-3 gap-y-2">
        <Button main disabled={busy} onClick={grant}>
          {several ? "Agree" : "Grant"}
        </Button>
        <Kbd>g</Kbd>
        <Button disabled={busy} onClick={decline}>
          Decline
        </Button>
        <Kbd>d</Kbd>
        <Button disabled={busy} onClick={askBack}>
          Ask back
        </Button>
        <Kbd>a</Kbd>
        <WordButton disabled={busy} onClick={() => setOtherwise(true)}>
          another plan, free days or a limit of its own
        </WordButton>
      </div>
      {otherwise && (
        <Otherwise
          of={of}
          verb={several ? "Agree to it so" : "Grant it so"}
          onClose={() => setOtherwise(false)}
          send={(chosen) => decide.mutateAsync({ decision: "granted", grant: chosen })}
        />
      )}
    </section>
  );
}
