import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { me } from "../../../api/queries/house";
import { ledgerAccounts, STALE } from "../../../api/queries/settle";
import { Dialog, Trouble, Waiting, WordButton } from "../../../kit/controls";
import { Line } from "../../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../../kit/form";
import { Table } from "../../../kit/table";
import { Aside, Page } from "../../frame";
import { isOne } from "../../roles";
import { BooksTabs } from "./tabs";

type Account = Console["LedgerView"];

const ROLES: Record<string, string> = {
  receivable: "What consumers owe",
  bank: "The bank account that transfers go to",
  "card clearing": "What the payment processor has taken from cards",
  revenue: "Revenue",
  tax: "Tax that is charged",
  losses: "What is written off",
};

const percent = (of: Account) => Number(of.percent);
const telling = (of: Account): string => {
  if (of.product) return `Revenue of ${of.product}`;
  return of.percent === null ? (ROLES[of.role] ?? of.role) : `Tax of ${percent(of)}%`;
};
const isPart = (of: Account) => of.product_id !== null || of.percent !== null;

/** What the bookkeeper calls the accounts that the journal posts to. */
export function LedgerNames() {
  const list = useQuery(ledgerAccounts());
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  const [naming, setNaming] = useState<Account | null>(null);
  return (
    <Page
      title="Names of accounts"
      sub="What the bookkeeper calls the accounts that the journal posts to."
      margin={
        <Aside title="How an account is named">
          <p className="text-soft">
            Its kind, Assets, Liabilities, Equity, Income or Expenses, and a path below it. Two that have one
            name are one account.
          </p>
          <p className="mt-2 text-soft">
            A new name holds in every month that is not closed. Closed months keep theirs.
          </p>
        </Aside>
      }
    >
      <BooksTabs shown="accounts" />
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the accounts" />}
      {list.data && (
        <Table
          className="mt-4"
          rows={list.data}
          id={(a) => a.id}
          columns={[
            { head: "What is posted there", cell: (a) => telling(a), look: (a) => (isPart(a) ? "pl-6" : "") },
            {
              head: "Account",
              cell: (a) => (
                <>
                  {a.name}
                  {isPart(a) && !a.own && <span className="text-[13px] text-soft"> as all {a.role}</span>}
                </>
              ),
            },
            finance && {
              head: "Name it",
              quiet: true,
              cell: (a) => (
                <WordButton onClick={() => setNaming(a)}>
                  name<span className="sr-only"> {telling(a)}</span>…
                </WordButton>
              ),
            },
          ]}
        />
      )}
      {naming && <Name of={naming} onClose={() => setNaming(null)} />}
    </Page>
  );
}

function Name({ of: a, onClose }: { of: Account; onClose: () => void }) {
  const stale = useStale();
  const entry = useEntry({
    start: { name: a.own ? a.name : "" },
    send: (body) => api.put("/ledger-accounts/{ledger_id}", { params: { path: { ledger_id: a.id } }, body }),
    done: async () => {
      await stale(STALE.journal);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={telling(a)}>
      <Form of={entry}>
        <Line name="name" label="Name of the account" hint={`Without one it is ${a.otherwise}.`} autoFocus />
        <Ends onLeave={onClose}>
          <Send>Name it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
