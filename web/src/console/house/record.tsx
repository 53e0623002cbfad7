import { useState } from "react";
import { api, type Console } from "../../api/console";
import { Trouble, Waiting } from "../../kit/controls";
import { dayAndMinute } from "../../kit/format";
import { Aside, Page } from "../frame";
import { ListFoot, useList, Words } from "../list";

type Entry = Console["Entry"];

/** Who changed what, when, from what to what, and why. */
export function RecordPage() {
  const [open, setOpen] = useState<Entry | null>(null);
  const list = useList("/record", (query) => api.get("/record", { params: { query } }));
  return (
    <Page
      title="The record"
      sub="Everything somebody did that changed terms, access or money. Entries are never altered."
      margin={open && <Change entry={open} />}
    >
      <div className="mt-4">
        <Words label="Only entries that mention" />
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the record" />}
      <table className="plain-table mt-3">
        <thead>
          <tr>
            <th>When</th>
            <th>Who</th>
            <th>Did</th>
            <th>To</th>
            <th>
              <span className="sr-only">More</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {list.rows.map((e) => (
            <tr key={e.id} aria-selected={open?.id === e.id}>
              <td className="whitespace-nowrap">{dayAndMinute(e.at)}</td>
              <td>{e.actor}</td>
              <td>{e.action}</td>
              <td>
                <span className="text-soft">{e.subject_kind}</span> {e.subject}
              </td>
              <td className="number">
                {(e.before || e.after || e.why) && (
                  <button type="button" className="figure-link" onClick={() => setOpen(e)}>
                    what changed
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {!list.isPending && list.rows.length === 0 && <p className="py-4 text-soft">No entry mentions that.</p>}
      <ListFoot of={list} more="Earlier entries" />
    </Page>
  );
}

function Change({ entry }: { entry: Entry }) {
  const lines = (value: unknown) =>
    JSON.stringify(value, null, 1)
      .replace(/[{}[\]",]/g, "")
      .split("\n")
      .filter((l) => l.trim());
  return (
    <>
      <Aside title={`${entry.action[0]?.toUpperCase()}${entry.action.slice(1)}`}>
        <p className="text-soft">
          {entry.actor}, {dayAndMinute(entry.at)}
        </p>
        {entry.why && <p className="mt-1">“{entry.why}”</p>}
      </Aside>
      {(["before", "after"] as const).map(
        (side) =>
          entry[side] && (
            <Aside key={side} title={side === "before" ? "Before" : "After"}>
              <pre className="overflow-x-auto font-sans whitespace-pre-wrap">
                {lines(entry[side]).join("\n")}
              </pre>
            </Aside>
          ),
      )}
    </>
  );
}
