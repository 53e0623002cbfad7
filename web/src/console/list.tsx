import type { UseQueryResult } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import { Trouble, Waiting } from "../kit/controls";
import { useRows } from "../kit/rows";
import { Page } from "./frame";

type Column<T> = {
  head: string;
  cell: (row: T) => React.ReactNode;
  number?: boolean;
  by?: (row: T) => string | number;
};

type Props<T> = {
  title: string;
  sub: React.ReactNode;
  actions?: React.ReactNode;
  above?: React.ReactNode;
  list: Pick<UseQueryResult<T[]>, "data" | "error" | "isPending">;
  columns: Column<T>[];
  address: (row: T) => string;
  reading: string;
  empty: string;
};

/** A page that is one list: sortable by its heads, with the order in the address, opened by key or pointer. */
export function ListPage<T extends { id: number }>(props: Props<T>) {
  const { columns, list, address } = props;
  const navigate = useNavigate();
  const [search, setSearch] = useSearchParams();
  const sort = columns.find((c) => c.by && c.head === search.get("sort"));
  const down = search.get("order") === "down";
  const rows = sorted(list.data ?? [], sort?.by, down);
  const { rowProps } = useRows(
    rows,
    (row) => row.id,
    (row) => navigate(address(row)),
  );
  const turn = (head: string) => {
    const next = new URLSearchParams(search);
    next.set("sort", head);
    next.set("order", search.get("sort") === head && !down ? "down" : "up");
    setSearch(next, { replace: true });
  };
  return (
    <Page title={props.title} sub={props.sub}>
      <div className="my-4 flex items-end justify-end gap-3">
        <div className="flex-1">{props.above}</div>
        {props.actions}
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words={props.reading} />}
      {list.data && rows.length === 0 && <p className="text-soft">{props.empty}</p>}
      {rows.length > 0 && (
        <table className="plain-table">
          <thead>
            <tr>
              {columns.map((c) => (
                <th
                  key={c.head}
                  className={c.number ? "number" : ""}
                  aria-sort={c === sort ? (down ? "descending" : "ascending") : undefined}
                >
                  {c.by ? (
                    <button type="button" className="hover:text-ink" onClick={() => turn(c.head)}>
                      {c.head}
                      {c === sort && (down ? " ↓" : " ↑")}
                    </button>
                  ) : (
                    c.head
                  )}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.id} {...rowProps(row)}>
                {columns.map((c, place) => (
                  <td key={c.head} className={c.number ? "number" : ""}>
                    {place === 0 ? (
                      <Link className="figure-link" to={address(row)}>
                        {c.cell(row)}
                      </Link>
                    ) : (
                      c.cell(row)
                    )}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Page>
  );
}

function sorted<T>(rows: T[], by: ((row: T) => string | number) | undefined, down: boolean): T[] {
  if (!by) return rows;
  const order = [...rows].sort((a, b) => {
    const [x, y] = [by(a), by(b)];
    return typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y));
  });
  return down ? order.reverse() : order;
}
