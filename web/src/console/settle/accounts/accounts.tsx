import { Link, useNavigate } from "react-router";
import { api, type Console } from "../../../api/console";
import { amount, date } from "../../../kit/format";
import { ListPage, useList } from "../../list";

type Line = Console["AccountLine"];

const AGES = [
  ["not_due", "Not due"],
  ["to_30", "0–30 days"],
  ["to_60", "31–60"],
  ["to_90", "61–90"],
  ["older", "Over 90"],
] as const;

/** Everybody's accounts: what is open by how old it is, and the credit beside it. */
export function Accounts() {
  const navigate = useNavigate();
  const list = useList("/accounts", (query) => api.get("/accounts", { params: { query } }));
  const whole = list.first?.together;
  const at = (of: Line) => `/settle/accounts/${of.consumer_id}`;
  return (
    <ListPage
      title="Accounts"
      sub="What consumers owe and are owed, by days past the day it was due."
      list={list}
      id={(a) => a.consumer_id}
      words="Consumer named"
      reading="Reading the accounts"
      empty="Nothing is owed yet. An issued invoice is the first entry of an account."
      open={(a) => navigate(at(a))}
      columns={[
        {
          head: "Consumer",
          sort: "consumer",
          cell: (a) => (
            <>
              <Link className="figure-link" to={at(a)}>
                {a.consumer}
              </Link>
              <Standing of={a} />
            </>
          ),
        },
        ...AGES.map(([name, head]) => ({
          head,
          number: true,
          sort: name === "older" ? "oldest" : undefined,
          cell: (a: Line) => figure(a[name]),
          look: name === "not_due" ? "" : "text-madder",
        })),
        { head: "Open", sort: "open", number: true, cell: (a) => figure(a.open) },
        { head: "Credit", number: true, cell: (a) => figure(a.credit) },
        {
          head: "Balance",
          sort: "balance",
          number: true,
          cell: (a) => (
            <span className={Number(a.balance) ? "text-brass" : "text-soft"}>{amount(a.balance)}</span>
          ),
        },
      ]}
      foot={
        whole && (
          <tr>
            <td>Together, everybody</td>
            {AGES.map(([name]) => (
              <td key={name} className="number">
                {figure(whole[name])}
              </td>
            ))}
            <td className="number">{figure(whole.open)}</td>
            <td className="number">{figure(whole.credit)}</td>
            <td className="number font-semibold text-brass">{amount(whole.balance)}</td>
          </tr>
        )
      }
    />
  );
}

const figure = (of: string) => (Number(of) ? amount(of) : "");

function Standing({ of: a }: { of: Line }) {
  const said = [
    a.oldest_due && `oldest due ${date(a.oldest_due)}`,
    a.reminders > 0 && `reminded ${a.reminders === 1 ? "once" : `${a.reminders} times`}`,
  ].filter(Boolean);
  if (said.length === 0 && !a.paused) return null;
  return (
    <div className="text-[13px] text-soft">
      {said.join(", ")}
      {a.paused && <span className="text-madder">{said.length > 0 && ", "}calls paused</span>}
    </div>
  );
}
