import type { Portal } from "../../api/portal";
import { WordButton } from "../../kit/controls";
import { bytes, count } from "../../kit/format";
import { Table } from "../../kit/table";
import { type Narrowing, NOTHING_FURTHER, useChosen } from "./chosen";

type Part = Portal["PartUse"];
/** So many rows are shown before one asks for more. */
const MOST = 8;

/** The calls by one of their kinds; a row is chosen to narrow everything to it, and let go again. */
export function Parts({
  name,
  head,
  of,
  none = "not known",
}: {
  name: Narrowing;
  head: string;
  of: Part[];
  /** What is said of calls that have none. */
  none?: string;
}) {
  const { use, change } = useChosen();
  const chosen = use[name];
  const rows = of.length > MOST && chosen === undefined ? of.slice(0, MOST) : of;
  return (
    <section aria-label={head} className="min-w-0 overflow-x-auto">
      <Table
        tight
        className="text-[14px]"
        rows={rows}
        id={(p) => p.id}
        selected={(p) => p.id === chosen}
        none="no calls"
        columns={[
          {
            head,
            names: true,
            cell: (p) =>
              p.id === 0 ? (
                <span className="text-soft">{none}</span>
              ) : (
                <WordButton
                  aria-pressed={p.id === chosen}
                  className={`text-left ${p.id === chosen ? "font-semibold" : ""}`}
                  onClick={() =>
                    change({ ...NOTHING_FURTHER, [name]: p.id === chosen ? null : String(p.id) })
                  }
                >
                  {p.name}
                </WordButton>
              ),
          },
          { head: "Let in", number: true, cell: (p) => count(p.served + p.held) },
          { head: "Refused", number: true, cell: (p) => count(p.refused) },
          { head: "Answered", number: true, look: "whitespace-nowrap", cell: (p) => bytes(p.bytes_out) },
        ]}
      />
      {rows.length < of.length && (
        <p className="text-[13px] text-soft">and {of.length - rows.length} more, in the file</p>
      )}
    </section>
  );
}
