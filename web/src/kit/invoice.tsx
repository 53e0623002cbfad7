import { useState } from "react";
import { Link } from "react-router";
import { Waiting } from "./controls";
import { amount, count, date, dayAndMinute, exact, plural } from "./format";
import { Table } from "./table";

export type Line = {
  id: number;
  kind: string;
  label: string;
  rule: string;
  application: string;
  product: string;
  plan: string;
  revision_id: number;
  revision: number;
  subscription_id: number;
  segment_start: string;
  segment_end: string;
  days: number;
  meter_id: number | null;
  quantity: string | null;
  included: string | null;
  priced: string | null;
  amount: string;
  slices: { quantity: string; unit: string; flat: string; amount: string }[];
  late: string;
};

type Invoice = {
  summary: { currency: string };
  subtotal: string;
  tax_percent: string;
  tax: string;
  total: string;
  lines: Line[];
};

type Day = { day: string; units: string; late: string; since_us: number; until_us: number };

type Props = {
  invoice: Invoice;
  revisionLink?: (line: Line) => string;
  callsLink: (line: Line, day: Day) => string;
  useDays: (line: number) => { data?: Day[] };
};

/** Every figure opens: line, tier slices, days, calls. */
export function InvoiceLines({ invoice, revisionLink, callsLink, useDays }: Props) {
  const [open, setOpen] = useState<number | null>(null);
  const currency = invoice.summary.currency;
  return (
    <Table
      className="mt-4"
      rows={invoice.lines}
      id={(line) => line.id}
      selected={(line) => open === line.id}
      above={(line, n) => {
        const before = invoice.lines[n - 1];
        const same =
          line.subscription_id === before?.subscription_id && line.revision_id === before.revision_id;
        return !same && <Stretch of={line} revisionLink={revisionLink} />;
      }}
      below={(line) =>
        open === line.id &&
        (line.kind === "usage" ? (
          <Usage line={line} currency={currency} callsLink={callsLink} useDays={useDays} />
        ) : (
          <Share line={line} />
        ))
      }
      columns={[
        {
          head: "For",
          cell: (line) => (
            <>
              {line.label}
              {Number(line.late) !== 0 && (
                <span className="text-brass"> · {count(line.late)} arrived late, not on this invoice</span>
              )}
            </>
          ),
        },
        { head: "Rule", cell: (line) => line.rule, look: "text-soft" },
        {
          head: "Quantity",
          number: true,
          cell: (line) =>
            line.quantity === null ? (line.days ? plural(line.days, "day") : "") : count(line.quantity),
        },
        {
          head: "Amount",
          number: true,
          cell: (line) => (
            <button
              type="button"
              className="figure-link"
              aria-expanded={open === line.id}
              onClick={() => setOpen(open === line.id ? null : line.id)}
            >
              {amount(line.amount, currency)}
            </button>
          ),
        },
      ]}
      foot={
        <>
          <Sum name="Subtotal" value={amount(invoice.subtotal, currency)} />
          <Sum name={`Tax, ${Number(invoice.tax_percent)}%`} value={amount(invoice.tax, currency)} />
          <Sum name="Total" value={amount(invoice.total, currency)} strong />
        </>
      }
    />
  );
}

function Sum({ name, value, strong }: { name: string; value: string; strong?: boolean }) {
  return (
    <tr className={strong ? "font-semibold" : ""}>
      <td colSpan={3} className="number">
        {name}
      </td>
      <td className={`number text-brass ${strong ? "font-serif text-[19px]" : ""}`}>{value}</td>
    </tr>
  );
}

/** Of what lines are: an application on a revision of a plan, from when until when. */
function Stretch({ of, revisionLink }: { of: Line; revisionLink: Props["revisionLink"] }) {
  const title = `${of.product} · ${of.plan}, revision ${of.revision}`;
  return (
    <>
      <b className="font-serif text-[15px] font-medium">{of.application}</b>{" "}
      <span className="text-soft">on </span>
      {revisionLink ? (
        <Link className="figure-link" to={revisionLink(of)}>
          {title}
        </Link>
      ) : (
        title
      )}
      <span className="text-soft">
        , {dayAndMinute(of.segment_start)} to {dayAndMinute(of.segment_end)}
      </span>
    </>
  );
}

function Share({ line }: { line: Line }) {
  return (
    <p className="py-1">
      {line.days
        ? `${plural(line.days, "local day")} of the period belong to this stretch; the amount is that share, rounded once.`
        : "Computed of the other lines of this stretch, rounded once."}
    </p>
  );
}

function Usage({
  line,
  currency,
  callsLink,
  useDays,
}: {
  line: Line;
  currency: string;
  callsLink: Props["callsLink"];
  useDays: Props["useDays"];
}) {
  const days = useDays(line.id);
  return (
    <div className="grid gap-x-8 py-1.5 lg:grid-cols-2">
      <div>
        <p className="mb-1">
          {count(line.quantity ?? 0)} counted, {count(line.included ?? 0)} included, {count(line.priced ?? 0)}{" "}
          priced:
        </p>
        <Table
          rows={line.slices}
          id={(_, n) => n}
          none="Nothing beyond what is included."
          columns={[
            { cell: (s) => count(s.quantity), number: true },
            {
              cell: (s) =>
                `× ${exact(s.unit, currency)}${Number(s.flat) ? ` + ${exact(s.flat, currency)}` : ""}`,
            },
            { cell: (s) => exact(s.amount, currency), number: true },
          ]}
        />
      </div>
      <div>
        <p className="mb-1">Counted by day; each opens to its calls:</p>
        {days.data ? (
          <div className="max-h-72 overflow-y-auto">
            <Table
              rows={days.data}
              id={(d) => d.day}
              none="No units were counted."
              columns={[
                { cell: (d) => date(d.day) },
                {
                  number: true,
                  cell: (d) => (
                    <Link className="figure-link" to={callsLink(line, d)}>
                      {count(d.units)}
                    </Link>
                  ),
                },
                Number(line.late) !== 0 && {
                  cell: (d) => Number(d.late) !== 0 && `and ${count(d.late)} late`,
                  look: "text-brass",
                },
              ]}
            />
          </div>
        ) : (
          <Waiting words="Counting the days" />
        )}
      </div>
    </div>
  );
}
