import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../../api/console";
import { Problem } from "../../../api/problem";
import { useStale } from "../../../api/queries/asking";
import { creditWorkedOut, STALE } from "../../../api/queries/settle";
import { Dialog, Waiting, WordButton } from "../../../kit/controls";
import { Line, Radios, Tick } from "../../../kit/fields";
import { Ends, Form, Send, useEntry, useTyped } from "../../../kit/form";
import { amount, month, plural } from "../../../kit/format";
import { Table } from "../../../kit/table";
import { Aside, Pair } from "../../frame";

type Invoice = Console["InvoiceView"];
const CREDITABLE = ["issued", "overdue", "paid"];

/** The credit notes of an invoice, what is proposed to be taken back, and taking back. */
export function Crediting({ of, finance }: { of: Invoice; finance: boolean }) {
  const [crediting, setCrediting] = useState(false);
  const [proposing, setProposing] = useState(false);
  const may = finance && CREDITABLE.includes(of.summary.state);
  return (
    <>
      {of.proposed.length > 0 && (
        <Aside title="Less is recorded now">
          <p className="text-soft">
            By all that is recorded for {month(of.summary.period_start)} now, it comes to{" "}
            <span className="text-brass">{amount(of.less, of.summary.currency)}</span> less before tax than
            was charged.
          </p>
          {may && <WordButton onClick={() => setProposing(true)}>credit the difference…</WordButton>}
        </Aside>
      )}
      {(of.credit_notes.length > 0 || may) && (
        <Aside title="Credit notes">
          {of.credit_notes.map((note) => (
            <Pair
              key={note.id}
              name={
                <Link className="figure-link" to={`/settle/credit-notes/${note.id}`}>
                  {note.number}
                </Link>
              }
            >
              {amount(note.total, note.currency)}
            </Pair>
          ))}
          {of.credit_notes.length === 0 && (
            <p className="text-soft">None. An issued invoice never changes: what was wrong is credited.</p>
          )}
          {may && (
            <p className="mt-1">
              <WordButton onClick={() => setCrediting(true)}>credit something of it…</WordButton>
            </p>
          )}
        </Aside>
      )}
      {crediting && <Credit of={of} onClose={() => setCrediting(false)} />}
      {proposing && <Proposed of={of} onClose={() => setProposing(false)} />}
    </>
  );
}

const REASON = { label: "Why, as its consumer reads it on the credit note", area: true, required: true };

type Typed = { reason: string; what: string; chargeable_again: boolean; lines: { amount: string }[] };

/** What is typed as it is sent, and the places of the lines of which something is taken back. */
function sentOf(of: Invoice, { what, lines, reason, chargeable_again }: Typed) {
  const filled = lines.flatMap((line, n) => (line.amount.trim() ? [n] : []));
  const taken = filled.map((n) => ({ line: of.lines[n]?.id ?? 0, amount: lines[n]?.amount.trim() ?? "" }));
  const whole = what === "whole";
  return { filled, body: { reason, chargeable_again, whole, lines: whole ? [] : taken } };
}

function Credit({ of, onClose }: { of: Invoice; onClose: () => void }) {
  const stale = useStale();
  const [key, setKey] = useState(() => crypto.randomUUID());
  const entry = useEntry<Typed, unknown>({
    start: {
      reason: "",
      what: "parts",
      chargeable_again: false,
      lines: of.lines.map(() => ({ amount: "" })),
    },
    send: async (typed) => {
      const { filled, body } = sentOf(of, typed);
      const header = { "idempotency-key": key };
      try {
        return await api.post("/invoices/{invoice_id}/credit-notes", {
          params: { path: { invoice_id: of.summary.id }, header },
          body,
        });
      } catch (error) {
        setKey(crypto.randomUUID()); // what is sent next is another request
        throw placed(error, filled);
      }
    },
    done: async () => {
      await stale(STALE.invoices);
      onClose();
    },
  });
  return (
    <Dialog open wide onClose={onClose} title={`Credit something of ${of.summary.number}`}>
      <Form of={entry}>
        <Radios
          name="what"
          choices={[
            ["parts", "Parts of its lines"],
            ["whole", "All that is left of it"],
          ]}
        />
        <Parts of={of} />
        <Line name="reason" {...REASON} />
        <Tick name="chargeable_again">
          Charge it again: the next invoice has late lines for what recorded usage then comes to
        </Tick>
        <WorkedOut of={of} />
        <Ends onLeave={onClose}>
          <Send>Issue the credit note</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

/** What is given back to whom, as it is typed. */
function WorkedOut({ of }: { of: Invoice }) {
  const typed = useTyped<Typed>();
  const { body, filled } = sentOf(of, { ...typed, reason: "" });
  const asked = body.whole || filled.length > 0;
  const said = useQuery({ ...creditWorkedOut(of.summary.id, body), enabled: asked });
  if (!asked || said.error)
    return (
      <p className="mt-2 text-soft">
        Say what is taken back of which line, and what it comes to stands here.
      </p>
    );
  if (!said.data) return <Waiting words="Working it out" />;
  const { subtotal, tax, total, currency } = said.data;
  return (
    <p className="mt-2" role="status">
      {of.summary.consumer} is given back <b className="text-brass">{amount(total, currency)}</b>:{" "}
      {amount(subtotal, currency)} and {amount(tax, currency)} of tax. A credit note never changes.
    </p>
  );
}

/** The lines of an invoice with what is left of each, and how much of that is taken back. */
function Parts({ of }: { of: Invoice }) {
  const { what } = useTyped<{ what: string }>();
  const { currency } = of.summary;
  if (what === "whole") return null;
  return (
    <Table
      className="my-2"
      tight
      rows={of.lines.map((line, n) => ({ ...line, n })).filter((line) => Number(line.left) !== 0)}
      id={(line) => line.id}
      none="Nothing is left of any line."
      columns={[
        { head: "For", cell: (line) => line.label },
        { head: "Charged", number: true, cell: (line) => amount(line.amount, currency) },
        { head: "Left", number: true, cell: (line) => amount(line.left, currency) },
        {
          head: "Take back",
          width: "w-44",
          cell: (line) => (
            <Line
              name={`lines.${line.n}.amount`}
              label={`Take back of ${line.label}`}
              quiet
              inputMode="text"
            />
          ),
        },
      ]}
    />
  );
}

/** A refusal that speaks of the nth line sent, speaking of the line it stands for here. */
function placed(error: unknown, sent: number[]): unknown {
  if (!(error instanceof Problem)) return error;
  const here = (where: string) => where.replace(/^lines\[(\d+)\]/, (_, n) => `lines[${sent[Number(n)]}]`);
  const refusals = error.refusals.map((each) => ({ ...each, where: here(each.where) }));
  return new Problem(error.status, here(error.where), error.message, error.current, refusals);
}

function Proposed({ of, onClose }: { of: Invoice; onClose: () => void }) {
  const stale = useStale();
  const [key] = useState(() => crypto.randomUUID());
  const entry = useEntry({
    start: { reason: "" },
    send: (body) =>
      api.post("/invoices/{invoice_id}/proposed-credit", {
        params: { path: { invoice_id: of.summary.id }, header: { "idempotency-key": key } },
        body,
      }),
    done: async () => {
      await stale(STALE.invoices);
      onClose();
    },
  });
  const on = [...new Set(of.proposed.map((each) => each.number))];
  return (
    <Dialog open onClose={onClose} title="Credit what is recorded no more">
      <Table
        tight
        rows={of.proposed}
        id={(_, n) => n}
        columns={[
          { head: "For", cell: (p) => p.label },
          { head: "Charged on", cell: (p) => p.number },
          { head: "Before tax", number: true, cell: (p) => amount(p.amount, of.summary.currency) },
        ]}
      />
      <p className="my-2 text-soft">
        {plural(on.length, "credit note")}, for {on.join(" and ")}, with the tax that was charged.
      </p>
      <Form of={entry}>
        <Line name="reason" {...REASON} autoFocus />
        <Ends onLeave={onClose}>
          <Send>Issue {plural(on.length, "credit note")}</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
