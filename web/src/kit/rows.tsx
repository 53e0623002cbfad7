import { useState } from "react";
import { useKeys } from "./keys";

/** Moving through rows with j and k, opening with Enter: props for each row. The chosen row is kept by its key, so
 * that rows arriving above it do not put another one under the reader's finger. */
export function useRows<T>(rows: T[], key: (row: T) => string | number, open: (row: T) => void) {
  const [chosen, setChosen] = useState<string | number | null>(null);
  const at = rows.findIndex((row) => key(row) === chosen);
  const step = (by: number) => {
    const next = rows[Math.max(0, Math.min(rows.length - 1, at + by))];
    if (next) setChosen(key(next));
  };
  const openChosen = () => {
    const row = rows[at];
    if (!row || document.activeElement?.matches("a, button")) return false;
    open(row);
    return true;
  };
  useKeys({
    j: () => step(1),
    k: () => step(-1),
    Enter: openChosen,
  });
  const rowProps = (row: T) => ({
    "aria-selected": key(row) === chosen,
    onClick: () => {
      setChosen(key(row));
      open(row);
    },
    className: "cursor-pointer hover:bg-kelp-tint/50",
  });
  return { rowProps };
}
