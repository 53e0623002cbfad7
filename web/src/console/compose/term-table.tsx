import { Fragment, useState } from "react";
import { WordButton } from "../../kit/controls";
import { Menu, MenuItem, MenuRule } from "../../kit/menu";
import { type Part, Sentence } from "../../kit/sentence";
import { typed } from "../../kit/terms";
import { PlanHead } from "./plan-head";
import type { Sheet } from "./sheet-changes";

type Row = Sheet["rows"][number];
type Cell = Row["cells"][number];
type Action = Cell["actions"][number];

/** Terms that need no row while no plan has them, with their names in a sentence. */
const RARE: Record<string, string> = {
  Window: "window",
  Pace: "pace",
  Overrides: "override of a single operation",
  Trial: "trial",
  Setup: "setup fee",
  "At least": "minimum",
  "At most": "cap",
  Discount: "discount",
  Tax: "exemption from tax",
  Notice: "notice before its end",
  Notes: "note",
};

type Props = {
  sheet: Sheet;
  onShow: (sheet: Sheet) => void;
  onChange: (plan: number, path: string, value: unknown) => void;
  onCopy: (from: number, to: number[], row: Row) => void;
  onSteps: (plan: number, path: string) => void;
};

/** Plans as columns, terms as rows, each term a sentence edited in place. */
export function TermTable({ sheet, onShow, onChange, onCopy, onSteps }: Props) {
  const [all, setAll] = useState(false);
  const rare = sheet.rows.filter((row) => row.label in RARE && unused(row));
  const shown = all ? sheet.rows : sheet.rows.filter((row) => !rare.includes(row));
  return (
    <>
      <div className="overflow-x-auto">
        <table
          className="w-full table-fixed border-collapse"
          style={{ minWidth: `${96 + sheet.plans.length * 168}px` }}
        >
          <thead>
            <tr className="border-b border-line align-bottom">
              <th className="w-24" aria-label="Term" />
              {sheet.plans.map((plan) => (
                <PlanHead key={plan.id} plan={plan} sheet={sheet} onShow={onShow} />
              ))}
            </tr>
          </thead>
          <tbody>
            {shown.map((row, n) => (
              <Fragment key={row.group + row.label}>
                {row.group !== shown[n - 1]?.group && (
                  <tr>
                    <th
                      colSpan={sheet.plans.length + 1}
                      className="border-b border-line pt-3.5 pb-0.5 text-left font-serif text-[15px] font-medium"
                    >
                      {row.group}
                    </th>
                  </tr>
                )}
                <tr className="group border-b border-line-soft align-top">
                  <th className="py-[7px] pr-2 text-left text-[13px] font-normal text-soft">{row.label}</th>
                  {row.cells.map((cell) => (
                    <td key={cell.plan_id} className="px-3 py-[7px]">
                      <TermCell
                        cell={cell}
                        label={row.label}
                        others={sheet.plans.filter((p) => p.id !== cell.plan_id)}
                        onChange={(path, value) => onChange(cell.plan_id, path, value)}
                        onCopy={(to) => onCopy(cell.plan_id, to, row)}
                        onSteps={(path) => onSteps(cell.plan_id, path)}
                      />
                    </td>
                  ))}
                </tr>
              </Fragment>
            ))}
          </tbody>
        </table>
      </div>
      {rare.length > 0 && (
        <p className="mt-3 text-[13px] text-soft">
          {all ? "Shown in full. " : `In no plan: ${rare.map((r) => RARE[r.label]).join(", ")}. `}
          <WordButton onClick={() => setAll(!all)}>
            {all ? "hide what no plan has" : "show these terms"}
          </WordButton>
        </p>
      )}
    </>
  );
}

function unused(row: Row): boolean {
  return row.cells.every((c) => !c.sentences.length && !c.changed);
}

type CellProps = {
  cell: Cell;
  label: string;
  others: Sheet["plans"];
  onChange: (path: string, value: unknown) => void;
  onCopy: (to: number[]) => void;
  onSteps: (path: string) => void;
};

function TermCell(props: CellProps) {
  const { cell, onChange } = props;
  return (
    <div
      className={`relative pr-5 ${cell.changed ? "before:absolute before:top-0.5 before:bottom-0.5 before:-left-[11px] before:w-[3px] before:bg-brass" : ""}`}
    >
      {cell.sentences.map((parts, n) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: sentences are in order
        <div key={n}>
          <Sentence
            parts={parts as unknown as Part[]}
            onChange={(field, value, input) => onChange(field, typed(value, input))}
          />
        </div>
      ))}
      {cell.sentences.length === 0 && <span className="text-soft">{cell.absent}</span>}
      {cell.was.map((was) => (
        <s key={was} className="block text-[12.5px] text-soft decoration-brass/60">
          {was}
        </s>
      ))}
      <CellMenu {...props} />
    </div>
  );
}

function CellMenu({ cell, label, others, onChange, onCopy, onSteps }: CellProps) {
  const act = (action: Action) =>
    action.opens === "steps" ? onSteps(action.path) : onChange(action.path, action.value);
  return (
    <Menu
      label={`More for ${label}`}
      trigger="+"
      className="absolute top-0 right-0 px-1 text-soft opacity-0 group-hover:opacity-100 hover:text-ink focus-visible:opacity-100 data-[state=open]:opacity-100"
    >
      {cell.actions.map((action) => (
        <MenuItem key={action.label} onSelect={() => act(action)}>
          {action.label}
        </MenuItem>
      ))}
      {others.length > 0 && cell.actions.length > 0 && <MenuRule />}
      {others.map((plan) => (
        <MenuItem key={plan.id} onSelect={() => onCopy([plan.id])}>
          Copy to {plan.name}
        </MenuItem>
      ))}
      {others.length > 1 && (
        <MenuItem onSelect={() => onCopy(others.map((p) => p.id))}>Copy to every plan</MenuItem>
      )}
    </Menu>
  );
}
