import { useState } from "react";
import { api, type Console } from "../../api/console";
import { dayAndMinute } from "../../kit/format";
import { Listing } from "../../kit/list";
import { Aside, Page } from "../frame";
import { useList } from "../list";

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
      <Listing
        list={list}
        id={(e) => e.id}
        words="Only entries that mention"
        reading="Reading the record"
        empty="Nothing is on the record yet."
        more="Earlier entries"
        selected={(e) => open?.id === e.id}
        columns={[
          { head: "When", cell: (e) => dayAndMinute(e.at), look: "whitespace-nowrap" },
          { head: "Who", cell: (e) => e.actor },
          { head: "Did", cell: (e) => e.action },
          {
            head: "To",
            cell: (e) => (
              <>
                <span className="text-soft">{e.subject_kind}</span> {e.subject}
              </>
            ),
          },
          {
            head: "More",
            quiet: true,
            number: true,
            cell: (e) =>
              (e.before || e.after || e.why) && (
                <button type="button" className="figure-link" onClick={() => setOpen(e)}>
                  what changed
                </button>
              ),
          },
        ]}
      />
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
