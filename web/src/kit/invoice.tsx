import { useState } from "react";
import { Link } from "react-router";
import { Waiting } from "./controls";
import { amount, count, date, dayAndMinute, exact, plural } from "./format";

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
    <table className="plain-table mt-4">
      <thead>
        <tr>
          <th>For</th>
          <th>Rule</th>
          <th className="number">Quantity</th>
          <th className="number">Amount</th>
        </tr>
      </thead>
      <tbody>
        {invoice.lines.map((line, n) => (
          <LineRows
            key={line.id}
            line={line}
            heading={
              line.subscription_id !== invoice.lines[n - 1]?.subscription_id ||
              line.revision_id !== invoice.lines[n - 1]?.revision_id
            }
            currency={currency}
            open={open === line.id}
            onOpen={() => setOpen(open === line.id ? null : line.id)}
            revisionLink={revisionLink}
            callsLink={callsLink}
            useDays={useDays}
          />
        ))}
      </tbody>
      <tfoot>
        <Sum name="Subtotal" value={amount(invoice.subtotal, currency)} />
        <Sum name={`Tax, ${Number(invoice.tax_percent)}%`} value={amount(invoice.tax, currency)} />
        <Sum name="Total" value={amount(invoice.total, currency)} strong />
      </tfoot>
    </table>
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

type RowProps = Omit<Props, "invoice"> & {
  line: Line;
  heading: boolean;
  currency: string;
  open: boolean;
  onOpen: () => void;
};

function LineRows({ line, heading, currency, open, onOpen, revisionLink, callsLink, useDays }: RowProps) {
  const title = `${line.product} · ${line.plan}, revision ${line.revision}`;
  return (
    <>
      {heading && (
        <tr>
          <td colSpan={4} className="pt-4">
            <b className="font-serif text-[15px] font-medium">{line.application}</b>{" "}
            <span className="text-soft">on </span>
            {revisionLink ? (
              <Link className="figure-link" to={revisionLink(line)}>
                {title}
              </Link>
            ) : (
              title
            )}
            <span className="text-soft">
              , {dayAndMinute(line.segment_start)} to {dayAndMinute(line.segment_end)}
            </span>
          </td>
        </tr>
      )}
      <tr aria-selected={open}>
        <td>
          {line.label}
          {Number(line.late) !== 0 && (
            <span className="text-brass"> · {count(line.late)} arrived late, not on this invoice</span>
          )}
        </td>
        <td className="text-soft">{line.rule}</td>
        <td className="number">
          {line.quantity === null ? (line.days ? plural(line.days, "day") : "") : count(line.quantity)}
        </td>
        <td className="number">
          <button type="button" className="figure-link" aria-expanded={open} onClick={onOpen}>
            {amount(line.amount, currency)}
          </button>
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={4} className="bg-paper/60 pl-4!">
            {line.kind === "usage" ? (
              <Usage line={line} currency={currency} callsLink={callsLink} useDays={useDays} />
            ) : (
              <Share line={line} />
            )}
          </td>
        </tr>
      )}
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
        <table className="plain-table">
          <tbody>
            {line.slices.map((s, n) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: slices are in order
              <tr key={n}>
                <td className="number">{count(s.quantity)}</td>
                <td>
                  × {exact(s.unit, currency)}
                  {Number(s.flat) ? ` + ${exact(s.flat, currency)}` : ""}
                </td>
                <td className="number">{exact(s.amount, currency)}</td>
              </tr>
            ))}
            {line.slices.length === 0 && (
              <tr>
                <td className="text-soft">Nothing beyond what is included.</td>
              </tr>
            )}
          </tbody>
        </table>
      </div>
      <div>
        <p className="mb-1">Counted by day; each opens to its calls:</p>
        {days.data ? (
          <div className="max-h-72 overflow-y-auto">
            <table className="plain-table">
              <tbody>
                {days.data.map((d) => (
                  <tr key={d.day}>
                    <td>{date(d.day)}</td>
                    <td className="number">
                      <Link className="figure-link" to={callsLink(line, d)}>
                        {count(d.units)}
                      </Link>
                    </td>
                    {Number(line.late) !== 0 && (
                      <td className="text-brass">{Number(d.late) !== 0 && `and ${count(d.late)} late`}</td>
                    )}
                  </tr>
                ))}
                {days.data.length === 0 && (
                  <tr>
                    <td className="text-soft">No units were counted.</td>
                  </tr>
                )}
              </tbody>
            </table>
          </div>
        ) : (
          <Waiting words="Counting the days" />
        )}
      </div>
    </div>
  );
}
