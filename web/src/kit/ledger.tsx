import { Link } from "react-router";
import { amount, date } from "./format";
import type { Column } from "./table";

/** So much of an entry went to an invoice, or came to it from an entry. */
export type Part = {
  entry_id: number;
  kind: string;
  number: string;
  document_id: number | null;
  on: string;
  amount: string;
};

/** One entry of an account, as either API tells it. */
export type LedgerEntry = {
  id: number;
  kind: string;
  on: string;
  amount: string;
  balance: string;
  number: string;
  document_id: number | null;
  names: string;
  names_id: number | null;
  value_on: string | null;
  reference: string;
  reason: string;
  parts: Part[];
  left: string;
  went_back: boolean;
};

export type DocumentLink = (of: { kind: string; document_id: number }) => string;

const SAID: Record<string, string> = {
  invoice: "Invoice",
  "credit note": "Credit note",
  payment: "Payment",
  refund: "Paid out",
  "write-off": "Written off",
  "returned payment": "Payment that went back",
};
// How a part of an invoice is drawn, by what closed it.
const INK: Record<string, string> = {
  payment: "bg-kelp",
  "credit note": "bg-dusk",
  "write-off": "bg-madder",
};

/** The columns of an account's ledger: what an entry is and what can be done with it, where it went, and what was owed
 * after it. */
export const ledgerColumns = (
  currency: string,
  link: DocumentLink,
  moves?: (of: LedgerEntry) => React.ReactNode,
): Column<LedgerEntry>[] => [
  { head: "Day", cell: (e) => date(e.on), look: "sm:whitespace-nowrap", width: "w-16 sm:w-28" },
  {
    head: "Entry",
    cell: (e) => (
      <>
        <What of={e} link={link} />
        {moves?.(e)}
      </>
    ),
  },
  {
    head: "Where it went",
    width: "w-[38%] max-sm:hidden",
    look: "max-sm:hidden",
    cell: (e) => <Went of={e} currency={currency} link={link} />,
  },
  { head: "Amount", number: true, look: "whitespace-nowrap", cell: (e) => amount(e.amount, currency) },
  {
    head: "Owed then",
    number: true,
    look: "whitespace-nowrap text-brass",
    cell: (e) => amount(e.balance, currency),
  },
];

function What({ of: e, link }: { of: LedgerEntry; link: DocumentLink }) {
  const aside = [
    e.reference && `“${e.reference}”`,
    e.value_on !== null && e.value_on !== e.on && date(e.value_on),
  ];
  return (
    <>
      {SAID[e.kind] ?? e.kind}{" "}
      {e.document_id !== null && (
        <Link
          className="figure-link whitespace-nowrap"
          to={link({ kind: e.kind, document_id: e.document_id })}
        >
          {e.number}
        </Link>
      )}
      {e.names_id !== null && !e.parts.some((part) => part.document_id === e.names_id) && (
        <>
          {" "}
          for{" "}
          <Link
            className="figure-link whitespace-nowrap"
            to={link({ kind: "invoice", document_id: e.names_id })}
          >
            {e.names}
          </Link>
        </>
      )}
      {e.went_back && <span className="text-madder"> · went back</span>}
      {aside.some(Boolean) && (
        <div className="text-[13px] break-all text-soft">{aside.filter(Boolean).join(", ")}</div>
      )}
      {e.reason && <div className="text-[13px] whitespace-pre-line text-soft">{e.reason}</div>}
    </>
  );
}

/** Where an entry went, drawn to its amount and said; of an invoice, what closed it. */
function Went({ of: e, currency, link }: { of: LedgerEntry; currency: string; link: DocumentLink }) {
  const invoice = e.kind === "invoice";
  const left = Number(e.left) > 0;
  if (e.parts.length === 0 && !left) return null;
  const whole = Math.abs(Number(e.amount)) || 1;
  return (
    <>
      <span className="text-[13px] text-soft">
        {e.parts.map((part, n) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a part is its place
          <span key={n}>
            {n > 0 && ", "}
            {amount(part.amount, currency)} <Whither of={part} link={link} invoice={invoice} />
          </span>
        ))}
        {left && (
          <span className="text-ink">
            {e.parts.length > 0 && ", "}
            {amount(e.left, currency)} {invoice ? "open" : "on account"}
          </span>
        )}
      </span>
      <span aria-hidden className="mt-1 mb-1 flex h-1.5 gap-px border border-line">
        {e.parts.map((part, n) => (
          <span
            // biome-ignore lint/suspicious/noArrayIndexKey: a part is its place
            key={n}
            className={INK[invoice ? part.kind : e.kind] ?? "bg-soft"}
            style={{ width: `${(100 * Number(part.amount)) / whole}%` }}
          />
        ))}
      </span>
    </>
  );
}

function Whither({ of: part, link, invoice }: { of: Part; link: DocumentLink; invoice: boolean }) {
  if (part.document_id !== null)
    return (
      <>
        {invoice ? "by " : "to "}
        <Link
          className="figure-link whitespace-nowrap"
          to={link({ kind: part.kind, document_id: part.document_id })}
        >
          {part.number}
        </Link>
      </>
    );
  if (!invoice) return <>paid out</>;
  return <>{part.kind === "write-off" ? "given up" : `paid on ${date(part.on)}`}</>;
}

/** What closed an invoice, or came open of it again, in order. */
export function Closing({ parts, currency, link }: { parts: Part[]; currency: string; link: DocumentLink }) {
  return (
    <ul>
      {parts.map((part, n) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a part is its place
        <li key={n} className="flex justify-between gap-3">
          <span className="text-soft">
            {date(part.on)},{" "}
            {Number(part.amount) < 0 ? (
              "payment went back"
            ) : part.document_id !== null ? (
              <Link
                className="figure-link whitespace-nowrap"
                to={link({ kind: part.kind, document_id: part.document_id })}
              >
                {part.number}
              </Link>
            ) : (
              (SAID[part.kind] ?? part.kind).toLowerCase()
            )}
          </span>
          <span className="number">{amount(part.amount, currency)}</span>
        </li>
      ))}
    </ul>
  );
}
