import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { STALE } from "../../../api/queries/settle";
import { Button, Dialog, Trouble, WordButton } from "../../../kit/controls";
import { Choice, Line } from "../../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../../kit/form";
import { amount, dayAndMinute } from "../../../kit/format";
import { Table } from "../../../kit/table";

type Invoice = Console["InvoiceView"];
type Adjustment = Invoice["adjustments"][number];

export const TREATMENTS: [string, string][] = [
  ["standard", "as usual"],
  ["exempt", "exempt"],
  ["reverse charge", "owed by the recipient (reverse charge)"],
];

/** What people added to an invoice, why, and who agreed. */
export function Adjustments({ of, finance }: { of: Invoice; finance: boolean }) {
  const [adding, setAdding] = useState(false);
  const draft = of.summary.state === "draft";
  return (
    <section aria-label="Adjustments" className="mt-8">
      <h2 className="font-serif text-[18px]">Adjustments</h2>
      <p className="mt-1 max-w-[620px] text-soft">
        {draft
          ? "Lines that a person adds to this draft, up or down, each with its reason. They stay when the draft is charged anew."
          : "Lines that a person added before this invoice was issued."}
      </p>
      {of.adjustments.length > 0 && (
        <Table
          className="mt-2"
          rows={of.adjustments}
          id={(a) => a.id}
          columns={[
            { head: "On the invoice", cell: (a) => a.words },
            { head: "Why", cell: (a) => a.reason, look: "text-soft" },
            { head: "By", cell: (a) => <By of={a} /> },
            { head: "Before tax", number: true, cell: (a) => amount(a.amount, of.summary.currency) },
            draft && finance && { head: "", quiet: true, cell: (a) => <Moves of={a} /> },
          ]}
        />
      )}
      {draft && finance && (
        <p className="mt-2">
          <Button onClick={() => setAdding(true)}>Add a line…</Button>
        </p>
      )}
      {adding && <Add of={of} onClose={() => setAdding(false)} />}
    </section>
  );
}

function By({ of: a }: { of: Adjustment }) {
  return (
    <>
      {a.made_by}, {dayAndMinute(a.made_at)}
      {a.agreed_by && <span className="text-soft">; {a.agreed_by} agreed</span>}
      {a.state === "waiting" && <span className="text-brass"> · waits for a second person</span>}
    </>
  );
}

function Moves({ of: a }: { of: Adjustment }) {
  const stale = useStale();
  const params = { path: { adjustment_id: a.id } };
  const agree = useMutation({
    mutationFn: () => api.post("/adjustments/{adjustment_id}/agree", { params }),
    onSuccess: () => stale(STALE.invoices),
  });
  const back = useMutation({
    mutationFn: () => api.delete("/adjustments/{adjustment_id}", { params }),
    onSuccess: () => stale(STALE.invoices),
  });
  return (
    <>
      {a.state === "waiting" && !a.own && (
        <>
          <WordButton onClick={() => agree.mutate()}>agree</WordButton> ·{" "}
        </>
      )}
      <WordButton onClick={() => back.mutate()}>take back</WordButton>
      <Trouble error={agree.error ?? back.error} />
    </>
  );
}

function Add({ of, onClose }: { of: Invoice; onClose: () => void }) {
  const stale = useStale();
  const [key] = useState(() => crypto.randomUUID());
  const entry = useEntry({
    start: { words: "", amount: "", treatment: "standard", reason: "" },
    send: (body) =>
      api.post("/invoices/{invoice_id}/adjustments", {
        params: { path: { invoice_id: of.summary.id }, header: { "idempotency-key": key } },
        body,
      }),
    done: async () => {
      await stale(STALE.invoices);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Add a line for ${of.summary.consumer}`}>
      <Form of={entry}>
        <Line name="words" label="What stands on the invoice" required autoFocus />
        <Line
          name="amount"
          label={`Amount before tax, in ${of.summary.currency}`}
          hint="Below 0 takes something off, such as -7.00."
          inputMode="text"
          required
        />
        <Choice name="treatment" label="Tax" choices={TREATMENTS} />
        <Line name="reason" label="Why, for the record" area required />
        <Ends onLeave={onClose}>
          <Send>Add the line</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
