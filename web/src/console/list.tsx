import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { paths } from "../api/console";
import type { List } from "../api/queries/asking";
import { Button, Trouble, Waiting } from "../kit/controls";
import { count } from "../kit/format";
import { useRows } from "../kit/rows";
import { Page } from "./frame";

type PageOf<T> = { rows: T[]; next: string | null; total: number };
type Query = { words: string; sort: string; down: boolean; cursor?: string };

/** A list that the server pages, filters and puts in order; what is wanted of it is kept in the address. `fill` is what
 * stands in the path, `fixed` what else the list depends on, as a query string; `first` is the first page with all that
 * came with it. */
export function useList<T, More = unknown>(
  path: List<paths>,
  read: (query: Query) => Promise<PageOf<T> & More>,
  { fill = {}, fixed = "", every }: { fill?: Record<string, string>; fixed?: string; every?: number } = {},
) {
  const [search] = useSearchParams();
  const query = {
    words: search.get("words") ?? "",
    sort: search.get("sort") ?? "",
    down: search.get("order") === "down",
  };
  const pages = useInfiniteQuery({
    queryKey: [path, fill, fixed, query],
    queryFn: ({ pageParam }) => read({ ...query, cursor: pageParam }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
    refetchInterval: every,
  });
  const asked = new URLSearchParams({
    ...Object.fromEntries(new URLSearchParams(fixed)),
    words: query.words,
    sort: query.sort,
    down: String(query.down),
  });
  return {
    rows: pages.data?.pages.flatMap((p) => p.rows) ?? [],
    first: pages.data?.pages[0],
    total: pages.data?.pages[0]?.total ?? 0,
    error: pages.error,
    isPending: pages.isPending,
    more: pages.hasNextPage ? () => pages.fetchNextPage() : null,
    csv: `/api/v1${path.replace(/\{(\w+)\}/g, (_, name) => fill[name] ?? "")}.csv?${asked}`,
  };
}

/** A list as `useList` gives it. */
export type ListOf<T> = ReturnType<typeof useList<T>>;

/** The head of a column the list can be ordered by. */
export function SortHead({ by, number, children }: { by: string; number?: boolean; children: string }) {
  const [search, setSearch] = useSearchParams();
  const chosen = search.get("sort") === by;
  const down = search.get("order") === "down";
  const turn = () => {
    const next = new URLSearchParams(search);
    next.set("sort", by);
    next.set("order", chosen && !down ? "down" : "up");
    setSearch(next, { replace: true });
  };
  return (
    <th
      className={number ? "number" : ""}
      aria-sort={chosen ? (down ? "descending" : "ascending") : undefined}
    >
      <button type="button" className="hover:text-ink" onClick={turn}>
        {children}
        {chosen && (down ? " ↓" : " ↑")}
      </button>
    </th>
  );
}

/** What narrows a list to rows that hold some words. */
export function Words({ label }: { label: string }) {
  const [search, setSearch] = useSearchParams();
  return (
    <label className="flex max-w-96 items-baseline gap-2 text-[13px] whitespace-nowrap text-soft">
      {label}
      <input
        className="w-full border-b border-line bg-transparent pb-0.5 text-[14px] text-ink"
        value={search.get("words") ?? ""}
        onChange={(e) => {
          const next = new URLSearchParams(search);
          if (e.target.value) next.set("words", e.target.value);
          else next.delete("words");
          setSearch(next, { replace: true });
        }}
      />
    </label>
  );
}

type Listed = { rows: unknown[]; total: number; more: (() => void) | null; csv: string };

/** The foot of a list: how much of it is shown, more of it, and all of it as a file. */
export function ListFoot({ of, more = "More" }: { of: Listed; more?: string }) {
  if (of.rows.length === 0) return null;
  return (
    <div className="mt-3 flex items-center gap-4 text-[13px] text-soft">
      <span>
        {of.rows.length < of.total
          ? `${count(of.rows.length)} of ${count(of.total)}`
          : `${count(of.total)} in all`}
      </span>
      <a className="figure-link" href={of.csv} download>
        Save as CSV
      </a>
      {of.more && (
        <Button small className="ml-auto" onClick={of.more}>
          {more}
        </Button>
      )}
    </div>
  );
}

type Column<T> = {
  head: string;
  cell: (row: T) => React.ReactNode;
  number?: boolean;
  sort?: string;
};

type Props<T> = {
  title: string;
  sub: React.ReactNode;
  actions?: React.ReactNode;
  words?: string;
  list: ReturnType<typeof useList<T>>;
  columns: Column<T>[];
  address: (row: T) => string;
  reading: string;
  empty: string;
};

/** A page that is one list, opened by key or pointer. */
export function ListPage<T extends { id: number }>(props: Props<T>) {
  const { columns, list, address } = props;
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const { rowProps } = useRows(
    list.rows,
    (row) => row.id,
    (row) => navigate(address(row)),
  );
  return (
    <Page title={props.title} sub={props.sub}>
      <div className="my-4 flex items-end justify-end gap-3">
        <div className="flex-1">{props.words && <Words label={props.words} />}</div>
        {props.actions}
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words={props.reading} />}
      {!list.isPending && !list.error && list.rows.length === 0 && (
        <p className="text-soft">{search.get("words") ? "Nothing here is named so." : props.empty}</p>
      )}
      {list.rows.length > 0 && (
        <table className="plain-table">
          <thead>
            <tr>
              {columns.map((c) =>
                c.sort ? (
                  <SortHead key={c.head} by={c.sort} number={c.number}>
                    {c.head}
                  </SortHead>
                ) : (
                  <th key={c.head} className={c.number ? "number" : ""}>
                    {c.head}
                  </th>
                ),
              )}
            </tr>
          </thead>
          <tbody>
            {list.rows.map((row) => (
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
      <ListFoot of={list} />
    </Page>
  );
}
