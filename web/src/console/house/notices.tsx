import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Console } from "../../api/console";
import { noticeKinds } from "../../api/queries/house";
import { Trouble, Waiting } from "../../kit/controls";
import { count } from "../../kit/format";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";

type Kind = Console["NoticeKindView"];

/** The groups in which people choose what they want by mail, and what comes in any case. */
const GROUPS: readonly (readonly [string | null, string])[] = [
  ["requests", "Requests"],
  ["plans", "Plans and subscriptions"],
  ["keys", "Keys"],
  ["alerts", "Alerts"],
  ["invoices", "Invoices"],
  ["members", "Members"],
  ["questions", "Questions"],
  [null, "Accounts and sign-in"],
];

export const said = (name: string) => `${name[0]?.toUpperCase()}${name.slice(1)}`;

/** How a kind of notice reaches people. */
export function ways(of: Kind): string {
  if (of.group === null) return "mail";
  return of.by_mail ? "page and mail" : "page alone";
}

/** What is written to whom: every kind of notice. */
export function Notices() {
  const list = useQuery(noticeKinds());
  return (
    <Page
      title="Notices"
      sub="What is written to whom, and in which words. They are yours to change; the next letter is in them."
      margin={
        <>
          <Aside title="How people are told">
            <p>
              What concerns an account or was asked for comes by mail in any case. Of the rest, members choose
              on their own page what they want by mail; on that page it stands anyhow.
            </p>
          </Aside>
          <Aside title="Rooms and systems">
            <p>
              A chat room or a system of yours hears what happens by{" "}
              <Link className="figure-link" to="/house/hooks">
                hooks
              </Link>
              .
            </p>
          </Aside>
          <Aside title="What became of letters">
            <p>
              The{" "}
              <Link className="figure-link" to="/house/letters">
                mail log
              </Link>{" "}
              has every one.
            </p>
          </Aside>
        </>
      }
    >
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the kinds of notices" />}
      {list.data &&
        GROUPS.map(([group, title]) => (
          <section key={title} aria-label={title} className="mt-5">
            <h2>{title}</h2>
            <Table
              rows={list.data.filter((kind) => kind.group === group)}
              id={(kind) => kind.kind}
              columns={[
                {
                  head: "Notice",
                  look: "w-[27%]",
                  cell: (kind) => (
                    <>
                      <Link className="figure-link" to={`/house/notices/${kind.name}`}>
                        {said(kind.kind)}
                      </Link>
                      {kind.trouble && (
                        <div className="text-[12px] text-madder">its own words cannot be filled in</div>
                      )}
                    </>
                  ),
                },
                { head: "Goes to", cell: (kind) => kind.to },
                { head: "How", cell: ways, look: "whitespace-nowrap text-soft" },
                {
                  head: "Words",
                  cell: (kind) =>
                    kind.own ? "yours" : <span className="whitespace-nowrap text-soft">as shipped</span>,
                },
                { head: "Letters, 30 days", number: true, cell: letters },
              ]}
            />
          </section>
        ))}
    </Page>
  );
}

function letters(kind: Kind) {
  if (kind.letters === 0) return <span className="text-soft">none</span>;
  return (
    <>
      <Link className="figure-link" to={`/house/letters?kind=${encodeURIComponent(kind.kind)}`}>
        {count(kind.letters)}
      </Link>
      {kind.failed > 0 && <div className="text-[12px] text-madder">{count(kind.failed)} failed</div>}
    </>
  );
}
