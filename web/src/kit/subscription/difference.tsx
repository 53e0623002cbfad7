import type { Portal } from "../../api/portal";
import { amount, listed, untilWhen } from "../format";
import { Table } from "../table";
import type { Move } from "./moves";

type Found = Portal["Difference"];
type Line = Portal["DueLine"];

/** What a move comes to: the month as it is beside the month with it, line by line, and what holds afterwards. */
export function Difference({
  move,
  plan,
  found,
  all = "all you have",
}: {
  move: Move;
  plan: string;
  found: Found;
  /** What else the invoice is for. */
  all?: string;
}) {
  const money = (value: string) => amount(value, found.currency);
  const more = Number(found.more); // only whether it is more or less; the amounts are exact as they came
  const rows = beside(found.without.lines, found.after.lines);
  return (
    <section aria-label="What it comes to" className="mt-3 bg-(--mark-tint) px-5 py-4">
      <p>
        {more === 0 ? (
          <>This month stays at {money(found.after.subtotal)} so far, before tax.</>
        ) : (
          <>
            This month comes to <b>{money(found.after.subtotal)}</b> so far instead of{" "}
            {money(found.without.subtotal)}, before tax:{" "}
            <b>
              {money(found.more.replace("-", ""))} {more > 0 ? "more" : "less"}
            </b>
            . With {all} and with tax, the invoice would be {money(found.after.invoice_total)} instead of{" "}
            {money(found.without.invoice_total)}.
          </>
        )}{" "}
        {found.month_after === found.month_before ? (
          <>A whole month without a call costs {money(found.month_after)}, as before.</>
        ) : (
          <>
            {move.when === "later" ? `After ${untilWhen(found.at)}` : "From then on"}, a whole month without a
            call costs <b>{Number(found.month_after) ? money(found.month_after) : "nothing"}</b> instead of{" "}
            {money(found.month_before)}, before tax.
          </>
        )}
      </p>
      {rows.length > 0 && more !== 0 && (
        <Table
          className="mt-2 text-[14px]"
          rows={rows}
          id={(row) => row.key}
          columns={[
            { head: "This month", cell: (row) => row.name },
            { head: "As it is", cell: (row) => said(row.before, found, money), number: true },
            { head: "With this", cell: (row) => said(row.after, found, money), number: true },
          ]}
        />
      )}
      <ul className="mt-2 text-[14px]">
        {found.consequences.map((words) => (
          <li key={words}>{words}</li>
        ))}
        {found.open_invoices.length > 0 && (
          <li>Still to be paid, whatever is done: {listed(found.open_invoices)}.</li>
        )}
        {found.undoes && <li>What was to come is taken back with it.</li>}
        {found.refused.map((words) => (
          <li key={words} className="text-madder">
            Under {plan}, {words}.
          </li>
        ))}
      </ul>
    </section>
  );
}

type Row = { key: string; name: string; before?: Line; after?: Line };

/** Lines of the same plan and kind side by side. */
function beside(before: Line[], after: Line[]): Row[] {
  const rows = new Map<string, Row>();
  for (const [side, lines] of [
    ["before", before],
    ["after", after],
  ] as const) {
    const seen = new Map<string, number>();
    for (const line of lines) {
      const name = `${line.plan}${line.trial ? ", on trial" : ""}: ${line.label.toLowerCase()}`;
      const nth = seen.get(name) ?? 0;
      seen.set(name, nth + 1);
      const key = `${name} ${nth}`;
      rows.set(key, { ...(rows.get(key) ?? { key, name }), [side]: line });
    }
  }
  // What is nothing on both sides says nothing.
  return [...rows.values()].filter(
    (row) => Number(row.before?.amount ?? 0) || Number(row.after?.amount ?? 0),
  );
}

function said(line: Line | undefined, found: Found, money: (value: string) => string): React.ReactNode {
  if (!line) return "";
  return (
    <>
      {line.days > 0 && line.label === "Fee" && (
        <span className="block text-soft sm:mr-2 sm:inline">
          {line.days} of {found.month_days} days
        </span>
      )}
      {money(line.amount)}
    </>
  );
}
