import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import type { Console } from "../../api/console";
import { revision as ofRevision } from "../../api/queries/compose";
import { Trouble, Waiting } from "../../kit/controls";
import { dayAndYear } from "../../kit/format";
import { Sentence } from "../../kit/sentence";
import { Table } from "../../kit/table";
import { Page } from "../frame";
import { useOpened } from "../lately";

export function RevisionPage() {
  const { id } = useParams();
  const one = useQuery(ofRevision(Number(id)));
  const revision = one.data;
  useOpened(revision && `${revision.plan}, revision ${revision.number}`);
  if (!revision)
    return (
      <Page title="Revision">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the revision" />}
      </Page>
    );
  return (
    <Page
      title={`${revision.plan}, revision ${revision.number}`}
      sub={`Published by ${revision.published_by} on ${dayAndYear(revision.published_at)}. It never changes again.`}
    >
      {revision.changes.length > 0 && (
        <ul className="mt-3">
          {revision.changes.map((change) => (
            <li key={change} className="border-b border-line-soft py-1 text-brass">
              {change}
            </li>
          ))}
        </ul>
      )}
      <TermsTable rows={revision.rows} />
      <p className="mt-4 flex gap-3 text-[13px] text-soft">
        {revision.others.map(([other, number]) =>
          other === revision.id ? (
            <span key={other}>revision {number}</span>
          ) : (
            <Link key={other} className="figure-link" to={`/compose/revisions/${other}`}>
              revision {number}
            </Link>
          ),
        )}
        <Link className="figure-link" to={`/compose/products/${revision.product_id}`}>
          the tariff sheet
        </Link>
      </p>
    </Page>
  );
}

/** The terms of one plan, read only. */
export function TermsTable({ rows }: { rows: Console["SheetRow"][] }) {
  return (
    <Table
      className="mt-4"
      rows={rows}
      id={(row) => row.group + row.label}
      none="No limits and no prices."
      columns={[
        { cell: (row) => row.label, names: true, look: "w-32 text-soft" },
        {
          cell: (row) =>
            row.cells[0]?.sentences.map((parts, n) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: sentences are in order
              <div key={n}>
                <Sentence parts={parts as never} />
              </div>
            )),
        },
      ]}
    />
  );
}
