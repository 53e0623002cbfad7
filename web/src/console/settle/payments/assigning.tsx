import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useFieldArray } from "react-hook-form";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { account, STALE } from "../../../api/queries/settle";
import { Dialog, WordButton } from "../../../kit/controls";
import { Choice, Line, Radios } from "../../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../../kit/form";
import { amount, date } from "../../../kit/format";
import { Table } from "../../../kit/table";
import { ConsumerChoice } from "../../admit/consumer-choice";

type Entry = Console["BankEntryView"];
type Part = { consumer_id: number; consumer: string; invoice_id: string; amount: string };

/** Whose an entry is: one consumer's or several's, for one of their invoices or for what is due first. */
export function Assign({ of: e, onClose }: { of: Entry; onClose: () => void }) {
  const stale = useStale();
  const [key] = useState(() => crypto.randomUUID());
  const out = e.amount.startsWith("-");
  const whole = e.amount.replace("-", "").replace(/(\.\d\d)0+$/, "$1");
  const [likely] = e.guesses;
  const entry = useEntry<{ parts: Part[] }, unknown>({
    start: {
      parts: likely
        ? [
            {
              consumer_id: likely.consumer_id,
              consumer: likely.consumer,
              invoice_id: String(likely.invoice_id),
              amount: whole,
            },
          ]
        : [],
    },
    send: ({ parts }) =>
      api.post("/bank/entries/{bank_entry_id}/assign", {
        params: { path: { bank_entry_id: e.id }, header: { "idempotency-key": key } },
        body: {
          parts: parts.map((part) => ({
            consumer_id: part.consumer_id,
            amount: part.amount.trim(),
            invoice_id: part.invoice_id && !out ? Number(part.invoice_id) : null,
          })),
        },
      }),
    done: async () => {
      await stale(STALE.bank);
      onClose();
    },
  });
  const rows = useFieldArray({ control: entry.form.control, name: "parts", keyName: "key" });
  return (
    <Dialog
      open
      wide
      onClose={onClose}
      title={`Assign ${amount(whole, e.currency)} ${out ? "to" : "from"} ${e.name || "nobody named"}`}
    >
      <p className="text-soft">
        {date(e.value_on)}: “{e.text || e.creditor_reference || "nothing written"}”
      </p>
      <Form of={entry}>
        <Table
          className="my-2"
          tight
          rows={rows.fields}
          id={(part) => part.key}
          none="Nobody yet: name its consumer below."
          columns={[
            { head: "Consumer", cell: (part) => part.consumer },
            !out && {
              head: "For invoice",
              width: "w-[44%]",
              cell: (part, n) => <ForInvoice of={part} n={n} currency={e.currency} />,
            },
            {
              head: "Amount",
              width: "w-32",
              cell: (part, n) => (
                <Line
                  name={`parts.${n}.amount`}
                  label={`Amount for ${part.consumer}`}
                  quiet
                  required
                  inputMode="decimal"
                />
              ),
            },
            {
              head: "Remove",
              quiet: true,
              cell: (part, n) => (
                <WordButton aria-label={`take away ${part.consumer}`} onClick={() => rows.remove(n)}>
                  take away
                </WordButton>
              ),
            },
          ]}
        />
        <div className="mb-3 text-[13px] text-soft">
          Another consumer
          <ConsumerChoice
            key={rows.fields.length}
            label="Another consumer"
            chosen={null}
            nobody="the name of a consumer"
            className="field text-ink"
            onChoose={(found) =>
              found &&
              rows.append({
                consumer_id: found.id,
                consumer: found.name,
                invoice_id: "",
                amount: rows.fields.length ? "" : whole,
              })
            }
          />
        </div>
        <Ends onLeave={onClose}>
          <Send disabled={rows.fields.length === 0}>Book it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function ForInvoice({ of: part, n, currency }: { of: Part; n: number; currency: string }) {
  const invoices = useQuery(account(part.consumer_id)).data?.invoices ?? [];
  const choices: [string, string][] = [
    ...invoices.map((i): [string, string] => [String(i.id), `${i.number}, ${amount(i.open, currency)} open`]),
    ["", "none: what is due first"],
  ];
  return (
    <Choice quiet name={`parts.${n}.invoice_id`} label={`Invoice of ${part.consumer}`} choices={choices} />
  );
}

/** Sending money back, leaving an entry alone, or having it wait again, with a reason. */
export function PutAside({ of: e, again, onClose }: { of: Entry; again?: boolean; onClose: () => void }) {
  const stale = useStale();
  const out = e.amount.startsWith("-");
  const entry = useEntry<{ what: string; why: string }, unknown>({
    start: { what: out ? "leave-alone" : "send-back", why: "" },
    send: ({ what, why }) => {
      const params = { path: { bank_entry_id: e.id } };
      const body = { why };
      if (again) return api.post("/bank/entries/{bank_entry_id}/take-back", { params, body });
      if (what === "send-back") return api.post("/bank/entries/{bank_entry_id}/send-back", { params, body });
      return api.post("/bank/entries/{bank_entry_id}/leave-alone", { params, body });
    },
    done: async () => {
      await stale(STALE.bank);
      onClose();
    },
  });
  const said = amount(e.amount.replace("-", ""), e.currency);
  return (
    <Dialog open onClose={onClose} title={again ? `Have ${said} wait again` : `Put ${said} aside`}>
      <Form of={entry}>
        {again ? (
          <p className="mb-2">
            {e.booked.length > 0 && ["matched", "assigned"].includes(e.state)
              ? "What it was booked as went back, its consumer is told, and it waits for a person."
              : "It waits for a person."}
          </p>
        ) : (
          <Radios
            name="what"
            choices={[
              ...(out
                ? []
                : ([["send-back", "It is sent back to where it came from"]] as [string, string][])),
              ["leave-alone", "It is no consumer's business"],
            ]}
          />
        )}
        <Line name="why" label="Why, for the record" area required autoFocus />
        <Ends onLeave={onClose}>
          <Send>{again ? "Have it wait again" : "Put it aside"}</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
