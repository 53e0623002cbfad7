import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { BEGINS } from "../api/begins";
import { api, type Portal } from "../api/portal";
import { ownAccount, ownCard } from "../api/queries/portal";
import { Trouble, Waiting } from "../kit/controls";
import { amount, date, inFours, month } from "../kit/format";
import { ledgerColumns } from "../kit/ledger";
import { Listing, useListOf } from "../kit/list";
import { Table } from "../kit/table";
import { HowYouPay } from "./card";
import { documentLink } from "./links";

type Account = Portal["AccountView"];

/** One's own account: what is open, how it is paid, and every entry. */
export function AccountPage() {
  const one = useQuery(ownAccount());
  const card = useQuery(ownCard()); // how one pays stands above the rest: coming later, it would move it
  const list = useListOf(`${BEGINS}/api/v1`, "/account/entries", (query) =>
    api.get("/account/entries", { params: { query } }),
  );
  if (!one.data || card.isPending)
    return one.error ? <Trouble error={one.error} /> : <Waiting words="Fetching your account" />;
  const of = one.data;
  return (
    <>
      <h1>Account</h1>
      <p className="mt-1">
        <Owing of={of} />
      </p>
      <Open of={of} />
      <HowYouPay />
      <h2 className="mt-8 text-[18px]">Entry by entry</h2>
      <p className="mt-1">
        <a className="figure-link" href={`${BEGINS}/api/v1/account/statement.pdf`} download>
          Save this year’s statement as PDF
        </a>
      </p>
      <Listing
        list={list}
        id={(e) => e.id}
        reading="Fetching its entries"
        empty="None yet. An invoice is the first entry, and what you pay the next."
        columns={ledgerColumns(of.currency, documentLink)}
      />
    </>
  );
}

/** What is owed, in a sentence. */
export function Owing({ of }: { of: Account }) {
  const owes = Number(of.balance);
  if (owes > 0)
    return (
      <>
        {of.consumer} owes <b>{amount(of.balance, of.currency)}</b>.
      </>
    );
  if (owes < 0)
    return (
      <>
        Nothing is owed, and <b>{amount(of.balance.replace("-", ""), of.currency)}</b> are on account: the
        next invoice uses them.
      </>
    );
  return <>Nothing is owed.</>;
}

/** Invoices of which something is open. */
function Open({ of }: { of: Account }) {
  if (of.invoices.length === 0) return null;
  return (
    <>
      <Table
        className="mt-3 max-w-[760px]"
        rows={of.invoices}
        id={(i) => i.id}
        columns={[
          {
            head: "To be paid",
            cell: (i) => (
              <Link className="figure-link" to={`/invoices/${i.id}`}>
                {i.number}
              </Link>
            ),
          },
          { head: "For", cell: (i) => month(i.period_start) },
          {
            head: "Due",
            cell: (i) => (
              <>
                {date(i.due_on)}
                {i.state === "overdue" && <span className="text-(--portal-wrong,#A3392D)">, overdue</span>}
              </>
            ),
          },
          { head: "Open", cell: (i) => amount(i.open, of.currency), number: true },
        ]}
      />
      {of.iban && (
        <p className="mt-2 text-soft">
          Transfer to {inFours(of.iban)}
          {of.bic && `, BIC ${of.bic}`}, each with the reference on its page.
        </p>
      )}
    </>
  );
}
