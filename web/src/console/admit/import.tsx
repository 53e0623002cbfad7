import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Console } from "../../api/console";
import { importColumns, importOf, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { me } from "../../api/queries/house";
import { useAddress } from "../../kit/address";
import { Choose } from "../../kit/choose";
import { Button, Trouble, Waiting, WordButton } from "../../kit/controls";
import { count, dayAndMinute, plural } from "../../kit/format";
import { Listing } from "../../kit/list";
import { Progress } from "../../kit/progress";
import { Page } from "../frame";
import { useOpened } from "../lately";
import { useList } from "../list";
import { isOne } from "../roles";
import { stageInWords } from "./imports";

type File = Console["ImportView"];
type Row = Console["ImportRowView"];

const STATES = [
  ["", "all rows"],
  ["wrong", "that cannot be brought in"],
  ["refused", "that were refused"],
  ["good", "that can be brought in"],
  ["made", "that were made"],
  ["waiting", "that are not checked yet"],
] as const;
/** How a row stands, before what is said of it; what is wrong says so itself. */
const SAID: Record<Row["state"], string> = {
  waiting: "not checked yet",
  good: "can be brought in",
  wrong: "",
  made: "made",
  refused: "refused",
};
const LOOKS: Partial<Record<Row["state"], string>> = { wrong: "text-madder", refused: "text-madder" };

/** A file: what can be brought in of it, doing that, and what came of it. */
export function ImportPage() {
  const id = Number(useParams().id);
  const one = useQuery(importOf(id));
  const file = one.data;
  useOpened(file?.name);
  if (!file)
    return (
      <Page title="A file">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Looking for the file" />}
      </Page>
    );
  return (
    <Page
      title={file.name}
      sub={
        <>
          {count(file.rows)} rows of {file.kind}, taken in {dayAndMinute(file.begun_at)} by {file.begun_by} ·{" "}
          {stageInWords(file)} ·{" "}
          <Link className="figure-link" to="/admit/imports">
            all files
          </Link>
        </>
      }
    >
      <Standing of={file} />
      <Rows of={file} />
    </Page>
  );
}

function Standing({ of: file }: { of: File }) {
  const stale = useStale();
  const navigate = useNavigate();
  const brings = isOne(useQuery(me()).data?.roles, ["product manager", "reviewer"]);
  const [letters, setLetters] = useState(true);
  const path = { params: { path: { import_id: file.id } } };
  const begin = useMutation({
    mutationFn: () => api.put("/imports/{import_id}/running", { ...path, body: { letters } }),
    onSettled: () => stale(STALE.import),
  });
  const stop = useMutation({
    mutationFn: () => api.delete("/imports/{import_id}/running", path),
    onSettled: () => stale(STALE.import),
  });
  const drop = useMutation({
    mutationFn: () => api.delete("/imports/{import_id}", path),
    onSuccess: async () => {
      navigate("/admit/imports");
      await stale(STALE.import);
    },
  });
  const left = file.wrong + file.refused;
  const accounts = file.kind === "consumers" || file.kind === "members";
  return (
    <section aria-label="How it stands" className="mt-3">
      {file.stage === "checking" && (
        <Progress
          done={file.rows - file.waiting}
          of={file.rows}
          units="rows"
          words="checked; nothing is made of it yet"
        />
      )}
      {file.stage === "running" && (
        <Progress
          done={file.made + file.refused}
          of={file.rows - file.wrong}
          units="rows"
          words="brought in"
        />
      )}
      {file.stage !== "checking" && (
        <p>
          {file.made > 0 && <>{plural(file.made, "was made", "were made")}. </>}
          {file.good > 0 && <>{count(file.good)} can be brought in. </>}
          {left > 0 ? (
            <>
              {file.made > 0 && file.good === 0
                ? plural(left, "was left out", "were left out")
                : `${count(left)} cannot be`}
              :{" "}
              <a className="figure-link" href={`/api/v1/imports/${file.id}/left-out.csv`} download>
                take them along, with why
              </a>
              , put them right, and take them in again.
            </>
          ) : (
            file.stage === "checked" && "Nothing is wrong with any."
          )}
        </p>
      )}
      {brings && (
        <div className="mt-2 flex flex-wrap items-center gap-4">
          {["checked", "stopped"].includes(file.stage) && file.good > 0 && (
            <>
              <Button main disabled={begin.isPending} onClick={() => begin.mutate()}>
                {file.stage === "stopped" ? "Go on with" : "Bring in"}{" "}
                {plural(file.good, file.kind.slice(0, -1), file.kind)}
              </Button>
              {accounts && (
                <label className="flex items-baseline gap-2">
                  <input
                    type="checkbox"
                    className="accent-(--color-kelp)"
                    checked={letters}
                    onChange={(e) => setLetters(e.target.checked)}
                  />
                  and write to each, to set a password
                </label>
              )}
              {file.kind === "subscriptions" && (
                <span className="text-soft">
                  Their members are told. You answer for the terms of use; where two decide, the other still
                  does.
                </span>
              )}
            </>
          )}
          {file.stage === "running" ? (
            <WordButton disabled={stop.isPending} onClick={() => stop.mutate()}>
              stop
            </WordButton>
          ) : (
            <WordButton disabled={drop.isPending} onClick={() => drop.mutate()}>
              put the file away
            </WordButton>
          )}
        </div>
      )}
      <Trouble error={begin.error ?? stop.error ?? drop.error} />
    </section>
  );
}

function Rows({ of: file }: { of: File }) {
  const { search, change } = useAddress();
  const names = useQuery(importColumns()).data?.[file.kind] ?? [];
  const state = search.get("state") ?? "";
  const list = useList(
    "/imports/{import_id}/rows",
    (query) =>
      api.get("/imports/{import_id}/rows", {
        params: { path: { import_id: file.id }, query: { ...query, state } },
      }),
    {
      fill: { import_id: String(file.id) },
      fixed: new URLSearchParams(state && { state }).toString(),
      every: 2_000,
    },
  );
  const filled = names.filter((c) => c.needed && list.rows.some((row) => row.cells[c.name]));
  return (
    <Listing
      list={list}
      id={(row) => row.id}
      words="Only rows about"
      actions={
        <Choose
          quiet
          className="w-[220px]"
          label="Which rows"
          value={state}
          choices={STATES}
          onChange={(value) => change({ state: value || null })}
        />
      }
      reading="Reading its rows"
      empty={state ? "No row is like that." : "It has no rows."}
      more="More rows"
      columns={[
        { head: "Line", cell: (row) => row.line, number: true, look: "align-top" },
        ...filled.map((column) => ({
          head: column.name,
          look: "align-top break-words",
          cell: (row: Row) => row.cells[column.name],
        })),
        {
          head: "It is",
          look: (row) => `align-top ${LOOKS[row.state] ?? ""}`,
          cell: (row) => (
            <>
              {SAID[row.state]}
              {SAID[row.state] && row.said && ": "}
              {row.said}
              {row.consumer_id && (
                <>
                  {" · "}
                  <Link className="figure-link" to={`/admit/consumers/${row.consumer_id}`}>
                    see it
                  </Link>
                </>
              )}
            </>
          ),
        },
      ]}
    />
  );
}
