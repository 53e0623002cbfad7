import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { bankColumns, STALE } from "../../../api/queries/settle";
import { Button, Dialog } from "../../../kit/controls";
import { Choice, Line, TextFile } from "../../../kit/fields";
import { Ends, Form, Send, useEntry, useTyped } from "../../../kit/form";
import { count, plural } from "../../../kit/format";

type Columns = Console["ColumnsIn"];
type Typed = { name: string; text: string; columns: Columns };

const NONE: Columns = {
  booked_on: "",
  amount: "",
  value_on: "",
  name: "",
  iban: "",
  text: "",
  reference: "",
  days: "2026-12-31",
  point: ".",
};
const FIELDS = [
  ["booked_on", "Column of the day of booking"],
  ["value_on", "Column of the day from which it counts"],
  ["amount", "Column of the amount, below 0 where it went out"],
  ["name", "Column of the other side's name"],
  ["iban", "Column of its account"],
  ["text", "Column of what was written"],
  ["reference", "Column of the bank's own reference"],
] as const;
const DAYS = ["2026-12-31", "31.12.2026", "31/12/2026", "12/31/2026", "31-12-2026"] as const;

const isXml = (text: string) => text.trimStart().startsWith("<");

/** Bringing a statement in: a file, of CSV which column is what, and what came of it. */
export function BringIn({ onClose }: { onClose: () => void }) {
  const kept = useQuery(bankColumns());
  const [came, setCame] = useState<Console["StatementView"] | null>(null);
  if (came) return <Came of={came} onClose={onClose} />;
  if (!kept.data) return null;
  return <Take columns={{ ...NONE, ...kept.data }} onClose={onClose} onCame={setCame} />;
}

function Take({
  columns,
  onClose,
  onCame,
}: {
  columns: Columns;
  onClose: () => void;
  onCame: (of: Console["StatementView"]) => void;
}) {
  const stale = useStale();
  const entry = useEntry<Typed, Console["StatementView"]>({
    start: { name: "", text: "", columns },
    send: ({ columns: of, ...rest }) =>
      api.post("/bank/statements", {
        body: isXml(rest.text) ? { ...rest, form: "camt.053" } : { ...rest, form: "csv", columns: of },
      }),
    done: async (made) => {
      await stale(STALE.bank);
      onCame(made);
    },
  });
  const text = entry.form.watch("text");
  return (
    <Dialog open wide onClose={onClose} title="Bring a statement in">
      <Form of={entry}>
        <TextFile
          name="text"
          accept=".xml,.csv,.txt,text/csv,text/xml,application/xml"
          label="Or paste it: CAMT.053 or CSV"
          height="h-32"
          onName={(from) => entry.form.setValue("name", from)}
        />
        <CsvColumns />
        <Ends onLeave={onClose}>
          <Send disabled={!text.trim()}>Bring it in</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

/** Which column of a CSV file is what; a CAMT.053 file says so itself. */
function CsvColumns() {
  const { text } = useTyped<Typed>();
  if (!text.trim() || isXml(text)) return null;
  const head = text.split("\n", 1)[0]?.slice(0, 300);
  return (
    <fieldset>
      <legend className="mb-2 text-soft">
        Which column is what, by the names in its head. It is kept for the next.
        <span className="block font-mono text-[12px] break-all">{head}</span>
      </legend>
      <div className="grid grid-cols-2 gap-x-5">
        {FIELDS.map(([name, label]) => (
          <Line key={name} name={`columns.${name}`} label={label} />
        ))}
        <Choice
          name="columns.days"
          label="It writes 31 December 2026 as"
          choices={DAYS.map((each): [string, string] => [each, each])}
        />
        <Choice
          name="columns.point"
          label="Before the cents stands"
          choices={[
            [".", "a point"],
            [",", "a comma"],
          ]}
        />
      </div>
    </fieldset>
  );
}

function Came({ of, onClose }: { of: Console["StatementView"]; onClose: () => void }) {
  return (
    <Dialog open onClose={onClose} title="What it brought">
      <p role="status">
        {plural(of.new, "new entry", "new entries")}, {count(of.matched)} of them matched.{" "}
        {of.known > 0 && `${plural(of.known, "entry was", "entries were")} known already.`}
      </p>
      {of.unread.length > 0 && (
        <>
          <p className="mt-2">Not used:</p>
          <ul className="max-h-60 overflow-auto text-[13px]">
            {of.unread.map((each) => (
              <li key={`${each.where} ${each.what}`}>
                <span className="text-soft">{each.where}</span>: {each.what}
              </li>
            ))}
          </ul>
        </>
      )}
      <div className="mt-4 flex justify-end">
        <Button main onClick={onClose}>
          On to what waits
        </Button>
      </div>
    </Dialog>
  );
}
