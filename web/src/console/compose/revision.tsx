import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import type { Console } from "../../api/console";
import { revision as ofRevision } from "../../api/queries/compose";
import { Trouble, Waiting } from "../../kit/controls";
import { dayAndYear } from "../../kit/format";
import { Sentence } from "../../kit/sentence";
import { Page } from "../frame";
import { useOpened } from "../shell";

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
    <table className="plain-table mt-4">
      <tbody>
        {rows.map((row) => (
          <tr key={row.group + row.label}>
            <th className="w-32 text-soft">{row.label}</th>
            <td>
              {row.cells[0]?.sentences.map((parts, n) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: sentences are in order
                <div key={n}>
                  <Sentence parts={parts as never} />
                </div>
              ))}
            </td>
          </tr>
        ))}
        {rows.length === 0 && (
          <tr>
            <td className="text-soft">No limits and no prices.</td>
          </tr>
        )}
      </tbody>
    </table>
  );
}
