import { useState } from "react";
import { api, type Console } from "../../api/console";
import { useAddress } from "../../kit/address";
import { WordButton } from "../../kit/controls";
import { dayAndMinute } from "../../kit/format";
import { Listing } from "../../kit/list";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";
import { useList } from "../list";
import { Narrow, useNarrowed } from "./narrow";
import { Proof } from "./proof";

type Entry = Console["Entry"];

/** Who changed what, when, from what to what, and why. */
export function RecordPage() {
  const { change } = useAddress();
  const [open, setOpen] = useState<Entry | null>(null);
  const sought = useNarrowed();
  const list = useList(
    "/record",
    (query) => api.get("/record", { params: { query: { ...query, ...sought } } }),
    {
      fixed: new URLSearchParams(
        Object.entries(sought).map(([name, value]) => [name, String(value)]),
      ).toString(),
    },
  );
  return (
    <Page
      title="The record"
      sub="Everything somebody did that changed terms, access or money. Entries are never altered; words about somebody who was erased are taken out."
      margin={
        <>
          {open && <Change entry={open} />}
          <Proof />
        </>
      }
    >
      <Narrow />
      <Listing
        list={list}
        id={(e) => e.id}
        words="Only entries that mention"
        reading="Reading the record"
        empty={Object.keys(sought).length > 0 ? "No entry is like that." : "Nothing is on the record yet."}
        more="Earlier entries"
        selected={(e) => open?.id === e.id}
        open={setOpen}
        columns={[
          { head: "When", cell: (e) => dayAndMinute(e.at), look: "whitespace-nowrap" },
          { head: "Who", cell: (e) => e.actor || e.by },
          { head: "Did", cell: (e) => e.action || "did something" },
          {
            head: "To",
            cell: (e) => (
              <>
                <span className="text-soft">{e.subject_kind}</span>{" "}
                <WordButton
                  className="text-left"
                  onClick={() => change({ thing: e.subject_kind, id: String(e.subject_id) })}
                >
                  {e.subject || e.subject_id}
                </WordButton>
              </>
            ),
          },
          {
            head: "More",
            quiet: true,
            number: true,
            cell: (e) =>
              (e.changes.length > 0 || e.why || e.erased) && (
                <button type="button" className="figure-link" onClick={() => setOpen(e)}>
                  {e.erased ? "what is left" : "what changed"}
                </button>
              ),
          },
        ]}
      />
    </Page>
  );
}

function Change({ entry }: { entry: Entry }) {
  return (
    <Aside title={entry.action ? `${entry.action[0]?.toUpperCase()}${entry.action.slice(1)}` : "An entry"}>
      <p className="text-soft">
        {entry.actor || entry.by}, {dayAndMinute(entry.at)}; entry {entry.id}
      </p>
      {entry.erased && <p className="mt-1">Its words spoke of a person, and were taken out.</p>}
      {entry.why && <p className="mt-1">“{entry.why}”</p>}
      {entry.changes.length > 0 && (
        <Table
          tight
          className="mt-2"
          rows={entry.changes}
          id={(c) => c.what}
          columns={[
            { head: "What", names: true, cell: (c) => c.what, look: "align-top break-words" },
            {
              head: "It was, and is",
              cell: (c) => (
                <>
                  {c.before !== null && <div className="break-words text-soft">{c.before}</div>}
                  {c.after !== null ? (
                    <div className="break-words">{c.after}</div>
                  ) : (
                    <div className="text-soft">taken away</div>
                  )}
                </>
              ),
            },
          ]}
        />
      )}
    </Aside>
  );
}
