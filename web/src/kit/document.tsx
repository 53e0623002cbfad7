import { useState } from "react";
import { Link } from "react-router";
import { Waiting } from "./controls";
import { amount, count, date, dayAndMinute, exact, month, plural } from "./format";
import { Table } from "./table";

/** The ways to save an issued document; its files are written a moment after it is issued. */
export function Saved({ base, files }: { base: string; files: string[] }) {
  if (!files.includes("pdf")) return <span className="text-soft">its PDF is being written</span>;
  return (
    <>
      <a className="figure-link" href={`${base}/document.pdf`} download>
        save the PDF
      </a>
      {files.includes("ubl") && (
        <>
          {" "}
          ·{" "}
          <a className="figure-link" href={`${base}/document.xml`} download>
            save it as UBL
          </a>
        </>
      )}
    </>
  );
}

export type Line = {
  id: number;
  sort: string;
  belongs_to: string;
  kind: string;
  label: string;
  rule: string;
  charged: Charged | null;
  meter_id: number | null;
  quantity: string | null;
  included: string | null;
  priced: string | null;
  amount: string;
  before: string | null;
  comes_to: string | null;
  treatment: string;
  percent: string;
  slices: { quantity: string; unit: string; flat: string; amount: string }[];
  corrects: Corrected | null;
  credited: string;
  late: string;
};

type Charged = {
  application: string;
  product: string;
  plan: string;
  revision_id: number;
  revision: number;
  subscription_id: number;
  segment_start: string;
  segment_end: string;
  days: number;
};

export type Corrected = { kind: string; document_id: number; number: string };

type TaxGroup = { treatment: string; percent: string; base: string; tax: string; note: string };

type Document = {
  summary: { currency: string };
  subtotal: string;
  tax_groups: TaxGroup[];
  tax: string;
  total: string;
  lines: Line[];
};

type Day = { day: string; units: string; late: string; since_us: number; until_us: number };

type Props = {
  of: Document;
  revisionLink?: (of: Charged) => string;
  documentLink: (of: Corrected) => string;
  callsLink: (subscription: number, meter: number, day: Day) => string;
  useDays: (line: number) => { data?: Day[] };
};

/** An invoice or a credit note. Every figure opens: line, tier slices, days, calls. */
export function DocumentLines(props: Props) {
  const { of, revisionLink, documentLink } = props;
  const [open, setOpen] = useState<number | null>(null);
  const currency = of.summary.currency;
  return (
    <Table
      className="mt-4"
      rows={of.lines}
      id={(line) => line.id}
      selected={(line) => open === line.id}
      above={(line, n) => {
        const before = of.lines[n - 1];
        return (
          !(before && sameStretch(line, before)) && (
            <Stretch of={line} revisionLink={revisionLink} documentLink={documentLink} />
          )
        );
      }}
      below={(line) => open === line.id && <Opened {...props} line={line} />}
      columns={[
        {
          head: "For",
          cell: (line) => (
            <>
              {line.label}
              {Number(line.late) !== 0 && (
                <span className="text-brass"> · {count(line.late)} arrived late, on no document yet</span>
              )}
              {Number(line.credited) !== 0 && (
                <span className="text-brass"> · {amount(line.credited, currency)} credited since</span>
              )}
            </>
          ),
        },
        { head: "Rule", cell: (line) => line.rule, look: "text-soft" },
        {
          head: "Quantity",
          number: true,
          cell: (line) => {
            if (line.quantity !== null) return count(line.quantity);
            return line.charged?.days ? plural(line.charged.days, "day") : "";
          },
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
          <Sum name="Subtotal" value={amount(of.subtotal, currency)} />
          {of.tax_groups.map((group) => (
            <Sum
              key={`${group.treatment} ${group.percent}`}
              name={taxOf(group, of.tax_groups.length > 1, currency)}
              value={amount(group.tax, currency)}
            />
          ))}
          <Sum name="Total" value={amount(of.total, currency)} strong />
        </>
      }
    />
  );
}

/** A tax group in words; on what it is taken is said where there are several. */
function taxOf(group: TaxGroup, several: boolean, currency: string): string {
  const on = several ? ` of ${amount(group.base, currency)}` : "";
  if (group.treatment === "standard") return `Tax, ${Number(group.percent)}%${on}`;
  return `${group.note}${several ? `: ${amount(group.base, currency)}` : ""}`;
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

function sameStretch(one: Line, other: Line): boolean {
  return (
    one.sort === other.sort &&
    one.belongs_to === other.belongs_to &&
    one.charged?.subscription_id === other.charged?.subscription_id &&
    one.charged?.revision_id === other.charged?.revision_id
  );
}

/** Of what lines are: an application on a revision of a plan, from when until when; late, of which month. */
function Stretch({
  of,
  revisionLink,
  documentLink,
}: {
  of: Line;
  revisionLink: Props["revisionLink"];
  documentLink: Props["documentLink"];
}) {
  const from = of.charged;
  if (!from) return <b className="font-serif text-[15px] font-medium">Adjustments</b>;
  const title = `${from.product} · ${from.plan}, revision ${from.revision}`;
  return (
    <>
      {of.sort === "late" && (
        <span className="text-brass">
          Late for {month(of.belongs_to)}
          {of.corrects && (
            <>
              , charged before on{" "}
              <Link className="figure-link" to={documentLink(of.corrects)}>
                {of.corrects.number || "that month"}
              </Link>
            </>
          )}
          :{" "}
        </span>
      )}
      <b className="font-serif text-[15px] font-medium">{from.application}</b>{" "}
      <span className="text-soft">on </span>
      {revisionLink ? (
        <Link className="figure-link" to={revisionLink(from)}>
          {title}
        </Link>
      ) : (
        title
      )}
      <span className="text-soft">
        , {dayAndMinute(from.segment_start)} to {dayAndMinute(from.segment_end)}
      </span>
    </>
  );
}

/** What a line opens to. */
function Opened({ line, ...props }: Props & { line: Line }) {
  const currency = props.of.summary.currency;
  if (line.sort === "adjustment")
    return <p className="py-1">Added by a person to this invoice, before it was issued.</p>;
  if (line.sort === "credit")
    return (
      <p className="py-1">
        Taken back of a line of{" "}
        {line.corrects ? (
          <Link className="figure-link" to={props.documentLink(line.corrects)}>
            {line.corrects.number}
          </Link>
        ) : (
          "the invoice, as it comes to now"
        )}
        .
      </p>
    );
  return (
    <>
      {line.before !== null && (
        <p className="pt-1">
          {month(line.belongs_to)} comes to {amount(line.comes_to ?? 0, currency)} of this now;{" "}
          {amount(line.before, currency)} of it was charged before.
        </p>
      )}
      {line.kind === "usage" ? <Usage {...props} line={line} /> : <Share line={line} />}
    </>
  );
}

function Share({ line }: { line: Line }) {
  return (
    <p className="py-1">
      {line.charged?.days
        ? `${plural(line.charged.days, "local day")} of the period belong to this stretch; the amount is that share, rounded once.`
        : "Computed of the other lines of this stretch, rounded once."}
    </p>
  );
}

function Usage({ line, of, callsLink, useDays }: Props & { line: Line }) {
  const days = useDays(line.id);
  const { currency } = of.summary;
  const late = line.sort === "late";
  return (
    <div className="grid gap-x-8 py-1.5 lg:grid-cols-2">
      <div>
        <p className="mb-1">
          {late
            ? `In all, ${count(line.priced ?? 0)} priced, ${count(line.included ?? 0)} included:`
            : `${count(line.quantity ?? 0)} counted, ${count(line.included ?? 0)} included, ${count(line.priced ?? 0)} priced:`}
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
        <p className="mb-1">
          {late
            ? "Arrived late, by day of the call; each opens:"
            : "Counted by day; each opens to its calls:"}
        </p>
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
                    <Link
                      className="figure-link"
                      to={callsLink(line.charged?.subscription_id ?? 0, line.meter_id ?? 0, d)}
                    >
                      {count(d.units)}
                    </Link>
                  ),
                },
                days.data.some((d) => Number(d.late) !== 0) && {
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
