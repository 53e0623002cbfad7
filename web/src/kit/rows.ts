import { useState } from "react";
import { useKeys } from "./keys";

/** Moving through rows with j and k, opening with Enter, marking with x: props for each row. The chosen row is kept by its key, so
 * that rows arriving above it do not put another one under the reader's finger. Rows that open nothing have none. */
export function useRows<T>(
  rows: readonly T[],
  key: (row: T, at: number) => string | number,
  open?: (row: T) => void,
  mark?: (row: T) => void,
) {
  const [chosen, setChosen] = useState<string | number | null>(null);
  const at = rows.findIndex((row, n) => key(row, n) === chosen);
  const step = (by: number) => {
    const to = Math.max(0, Math.min(rows.length - 1, at + by));
    const next = rows[to];
    if (next) setChosen(key(next, to));
  };
  const openChosen = () => {
    const row = rows[at];
    if (!row || document.activeElement?.matches("a, button")) return false;
    open?.(row);
    return true;
  };
  const markChosen = () => {
    const row = rows[at];
    if (!row || !mark) return false;
    mark(row);
    return true;
  };
  useKeys(open ? { j: () => step(1), k: () => step(-1), Enter: openChosen, x: markChosen } : {});
  const rowProps = (row: T, n: number) =>
    open
      ? {
          "aria-selected": key(row, n) === chosen,
          onClick: (event: React.MouseEvent) => {
            setChosen(key(row, n));
            if (!(event.target as Element).closest("a, button, input, label")) open(row); // those do what they say
          },
          className: "cursor-pointer hover:bg-kelp-tint/50",
        }
      : {};
  return { rowProps };
}
