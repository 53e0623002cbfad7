import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, type Console } from "../api/console";
import { Button, Trouble, Waiting } from "../kit/controls";
import { dayAndMinute } from "../kit/format";
import { Aside, Page } from "./frame";

type Entry = Console["Entry"];

/** Who changed what, when, from what to what, and why. */
export function RecordPage() {
  const [search, setSearch] = useSearchParams();
  const words = search.get("words") ?? "";
  const [open, setOpen] = useState<Entry | null>(null);
  const pages = useInfiniteQuery({
    queryKey: ["record", words],
    queryFn: ({ pageParam }) => api.get("/record", { params: { query: { words, cursor: pageParam } } }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
  });
  const entries = pages.data?.pages.flatMap((p) => p.entries) ?? [];
  return (
    <Page
      title="The record"
      sub="Everything somebody did that changed terms, access or money. Entries are never altered."
      margin={open && <Change entry={open} />}
    >
      <label className="mt-4 block max-w-80 text-[13px] text-soft">
        Only entries that mention
        <input
          className="field text-ink"
          value={words}
          onChange={(e) => setSearch(e.target.value ? { words: e.target.value } : {}, { replace: true })}
        />
      </label>
      <Trouble error={pages.error} />
      {pages.isPending && <Waiting words="Reading the record" />}
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
          {entries.map((e) => (
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
      {!pages.isPending && entries.length === 0 && <p className="py-4 text-soft">No entry mentions that.</p>}
      {pages.hasNextPage && (
        <Button className="mt-4" onClick={() => pages.fetchNextPage()}>
          Earlier entries
        </Button>
      )}
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
