import { useAddress } from "./address";
import { useRows } from "./rows";

/** A column: its head, and what it shows of a row. */
export type Column<T> = {
  head?: React.ReactNode;
  /** Its head is for screen readers alone. */
  quiet?: boolean;
  cell: (row: T, at: number) => React.ReactNode;
  /** Figures stand at the right, one under the other. */
  number?: boolean;
  /** Its cells name their rows. */
  names?: boolean;
  /** By what the server orders the list when this head is pressed. */
  sort?: string;
  width?: string;
  look?: string | ((row: T) => string);
  /** Over how many rows the cell goes; 0 where one above covers it. */
  spans?: (row: T) => number;
};

export type TableProps<T> = {
  rows: readonly T[];
  id: (row: T, at: number) => string | number;
  columns: readonly (Column<T> | false)[];
  /** Rows are opened by pointer, or by j, k and Enter; x marks the one that j and k have come to. */
  open?: (row: T) => void;
  mark?: (row: T) => void;
  selected?: (row: T) => boolean;
  current?: (row: T) => boolean;
  /** What stands over or under a row, over all columns. */
  above?: (row: T, at: number) => React.ReactNode;
  below?: (row: T) => React.ReactNode;
  /** Rows at the foot. */
  foot?: React.ReactNode;
  /** Said in a row of its own where there is none. */
  none?: string;
  /** Rows closer together. */
  tight?: boolean;
  /** The head stays while rows move under it. */
  sticky?: boolean;
  className?: string;
};

/** Rows and columns: the one table of every screen. */
export function Table<T>(props: TableProps<T>) {
  const { rows, id, open, mark, foot, none, tight, sticky, className = "" } = props;
  const columns = props.columns.filter((column): column is Column<T> => column !== false);
  const { rowProps } = useRows(rows, id, open, mark);
  const headed = columns.some((column) => column.head !== undefined);
  const whole = (content: React.ReactNode, look: string) =>
    content ? (
      <tr>
        <td colSpan={columns.length} className={look}>
          {content}
        </td>
      </tr>
    ) : null;
  return (
    <table className={`plain-table ${tight ? "tight" : ""} ${className}`}>
      {headed && (
        <thead className={sticky ? "sticky top-0 bg-sheet" : ""}>
          <tr>
            {columns.map((column, place) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a column is its place
              <Head key={place} of={column} />
            ))}
          </tr>
        </thead>
      )}
      <tbody>
        {rows.map((row, at) => (
          <Row
            key={id(row, at)}
            {...props}
            row={row}
            at={at}
            columns={columns}
            own={rowProps(row, at)}
            whole={whole}
          />
        ))}
        {none && rows.length === 0 && whole(none, "text-soft")}
      </tbody>
      {foot && <tfoot>{foot}</tfoot>}
    </table>
  );
}

type RowProps<T> = Omit<TableProps<T>, "columns"> & {
  row: T;
  at: number;
  columns: Column<T>[];
  own: React.HTMLAttributes<HTMLTableRowElement>;
  whole: (content: React.ReactNode, look: string) => React.ReactNode;
};

function Row<T>({ row, at, columns, own, whole, selected, current, above, below }: RowProps<T>) {
  return (
    <>
      {whole(above?.(row, at), "pt-4")}
      <tr
        {...own}
        aria-selected={selected ? selected(row) : own["aria-selected"]}
        aria-current={current?.(row) || undefined}
      >
        {columns.map((column, place) => {
          const spans = column.spans?.(row) ?? 1;
          const look = typeof column.look === "function" ? column.look(row) : (column.look ?? "");
          const cell = {
            className: `${column.number ? "number" : ""} ${look}`,
            rowSpan: spans > 1 ? spans : undefined,
            children: column.cell(row, at),
          };
          if (spans === 0) return null;
          // biome-ignore lint/suspicious/noArrayIndexKey: a column is its place
          return column.names ? <th key={place} scope="row" {...cell} /> : <td key={place} {...cell} />;
        })}
      </tr>
      {whole(below?.(row), "bg-paper/60 pl-4!")}
    </>
  );
}

function Head<T>({ of }: { of: Column<T> }) {
  const { search, change } = useAddress();
  const look = `${of.number ? "number" : ""} ${of.width ?? ""}`;
  if (of.quiet)
    return (
      <th className={look}>
        <span className="sr-only">{of.head}</span>
      </th>
    );
  if (!of.sort) return <th className={look}>{of.head}</th>;
  const by = of.sort;
  const chosen = search.get("sort") === by;
  const down = search.get("order") === "down";
  const turn = () => change({ sort: by, order: chosen && !down ? "down" : "up" });
  return (
    <th className={look} aria-sort={chosen ? (down ? "descending" : "ascending") : undefined}>
      <button type="button" className="hover:text-ink" onClick={turn}>
        {of.head}
        {chosen && (down ? " ↓" : " ↑")}
      </button>
    </th>
  );
}
