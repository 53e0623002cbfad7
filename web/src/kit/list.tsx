import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import { useAddress } from "./address";
import { Button, Trouble, Waiting } from "./controls";
import { count } from "./format";
import { Table, type TableProps } from "./table";

export type PageOf<T> = { rows: T[]; next: string | null; total: number };
export type Query = { words: string; sort: string; down: boolean; cursor?: string };
export type How = { fill?: Record<string, string>; fixed?: string; every?: number };

/** A list of the API under `base`, which pages, filters and puts it in order; what is wanted of it is kept in the
 * address. `fill` is what stands in the path, `fixed` what else the list depends on, as a query string; `first` is the
 * first page with all that came with it. */
export function useListOf<T, More = unknown>(
  base: string,
  path: string,
  read: (query: Query) => Promise<PageOf<T> & More>,
  { fill = {}, fixed = "", every }: How = {},
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
    csv: `${base}${path.replace(/\{(\w+)\}/g, (_, name) => fill[name] ?? "")}.csv?${asked}`,
  };
}

/** A list as `useListOf` gives it. */
export type ListOf<T> = {
  rows: T[];
  total: number;
  error: unknown;
  isPending: boolean;
  more: (() => unknown) | null;
  csv: string;
};

/** What narrows a list to rows that hold some words. */
export function Words({ label }: { label: string }) {
  const { search, change } = useAddress();
  return (
    <label className="flex max-w-96 items-baseline gap-2 text-[13px] whitespace-nowrap text-soft">
      {label}
      <input
        className="w-full border-b border-line bg-transparent pb-0.5 text-[14px] text-ink"
        value={search.get("words") ?? ""}
        onChange={(e) => change({ words: e.target.value || null })}
      />
    </label>
  );
}

/** The foot of a list: how much of it is shown, more of it, and all of it as a file. */
function Foot<T>({ of, more }: { of: ListOf<T>; more: string }) {
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

export type ListingProps<T> = Omit<TableProps<T>, "rows" | "id" | "none"> & {
  list: ListOf<T>;
  id: (row: T) => string | number;
  /** Label of what narrows the list; without one it cannot be narrowed. */
  words?: string;
  actions?: React.ReactNode;
  /** Said while it is first read, where it is empty, and on what brings more of it. */
  reading: string;
  empty: React.ReactNode;
  more?: string;
  /** Where a row's page is: its first cell leads there, and so does opening the row. */
  address?: (row: T) => string;
};

/** A list: what narrows it, its rows, its foot, and what is said instead of rows. */
export function Listing<T>(props: ListingProps<T>) {
  const { list, words, actions, reading, empty, more = "More", address, columns, open, ...rest } = props;
  const [search] = useSearchParams();
  const navigate = useNavigate();
  const led = columns.map((column, place) =>
    column && address && place === 0
      ? {
          ...column,
          cell: (row: T, at: number) => (
            <Link className="figure-link" to={address(row)}>
              {column.cell(row, at)}
            </Link>
          ),
        }
      : column,
  );
  return (
    <>
      {(words || actions) && (
        <div className="my-4 flex items-end justify-end gap-3">
          <div className="flex-1">{words && <Words label={words} />}</div>
          {actions}
        </div>
      )}
      <Trouble error={list.error} />
      {list.isPending && <Waiting words={reading} />}
      {!list.isPending && !list.error && list.rows.length === 0 && (
        <p className="py-2 text-soft">{search.get("words") ? "Nothing here has these words." : empty}</p>
      )}
      {list.rows.length > 0 && (
        <>
          <Table<T>
            {...rest}
            rows={list.rows}
            columns={led}
            open={open ?? (address && ((row) => navigate(address(row))))}
          />
          <Foot of={list} more={more} />
        </>
      )}
    </>
  );
}
