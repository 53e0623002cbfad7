import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { me } from "../../api/queries/house";
import { STALE, usageFile, usageMonths } from "../../api/queries/serve";
import { Button, Trouble, Waiting, WordButton } from "../../kit/controls";
import { count, dayAndMinute, listed, month, plural } from "../../kit/format";
import { Listing } from "../../kit/list";
import { Progress } from "../../kit/progress";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";
import { useOpened } from "../lately";
import { useList } from "../list";
import { isOne } from "../roles";
import { StrikeOut } from "../settle/striking";
import { stageInWords, type UsageFile } from "./usage-files";

type Month = Console["UsageMonth"];

/** A file of another gateway's calls: what of it can be used and what that comes to, recording it, and what became of
 * it. */
export function UsageFilePage() {
  const id = Number(useParams().id);
  const one = useQuery(usageFile(id));
  const file = one.data;
  useOpened(file?.name);
  if (!file)
    return (
      <Page title="A file of usage">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Looking for the file" />}
      </Page>
    );
  return (
    <Page
      title={file.name}
      sub={
        <>
          Brought in {dayAndMinute(file.brought_at)} by {file.brought_by}
          {file.sources.length > 0 && ` · counted by ${listed(file.sources)}`} · {stageInWords(file)} ·{" "}
          <Link className="figure-link" to="/settle/usage">
            all files
          </Link>
        </>
      }
      margin={<Rules />}
    >
      <Standing of={file} />
      {file.stage !== "checking" && file.usable > 0 && <Months of={file} />}
      {file.unusable > 0 && <Unusable of={file} />}
    </Page>
  );
}

function Rules() {
  return (
    <Aside title="What becomes of a call">
      <p className="text-soft">
        It is counted by the meters and charged by the plan in force when it was made. Of a month that is
        issued already it becomes a late line of the next invoice, at that month's price.
      </p>
      <p className="mt-2 text-soft">
        One that is recorded already changes nothing; where it says something else, that is set aside and
        shown under Gateways.
      </p>
    </Aside>
  );
}

function Standing({ of: file }: { of: UsageFile }) {
  const stale = useStale();
  const navigate = useNavigate();
  const brings = isOne(useQuery(me()).data?.roles, ["finance", "operations"]);
  const [leavingOut, setLeavingOut] = useState(false);
  const path = { params: { path: { usage_file_id: file.id } } };
  const record = useMutation({
    mutationFn: () =>
      api.put("/usage/files/{usage_file_id}/recording", { ...path, body: { leaving_out: leavingOut } }),
    onSettled: () => stale(STALE.usage),
  });
  const stop = useMutation({
    mutationFn: () => api.delete("/usage/files/{usage_file_id}/recording", path),
    onSettled: () => stale(STALE.usage),
  });
  const drop = useMutation({
    mutationFn: () => api.delete("/usage/files/{usage_file_id}", path),
    onSuccess: async () => {
      navigate("/settle/usage");
      await stale(STALE.usage);
    },
  });
  const far = { done: file.done, of: file.parts, units: "parts" };
  const ready = (file.stage === "checked" || file.stage === "stopped") && file.usable + file.known > 0;
  return (
    <section aria-label="How it stands" className="mt-3">
      {file.stage === "checking" && <Progress {...far} words="checked; nothing of it is recorded" />}
      {file.stage === "recording" && <Progress {...far} words="recorded" />}
      {file.stage === "refused" && (
        <p className="text-madder">The file was refused, and nothing of it is recorded: {file.why}.</p>
      )}
      {file.stage !== "checking" && <Said of={file} />}
      {brings && (
        <div className="mt-2 flex flex-wrap items-center gap-4">
          {ready && (
            <>
              <Button
                main
                disabled={record.isPending || (file.unusable > 0 && !leavingOut)}
                onClick={() => record.mutate()}
              >
                {file.stage === "stopped" ? "Go on recording" : `Record ${plural(file.usable, "call")}`}
              </Button>
              {file.unusable > 0 && (
                <label className="flex items-baseline gap-2">
                  <input
                    type="checkbox"
                    className="accent-(--color-kelp)"
                    checked={leavingOut}
                    onChange={(e) => setLeavingOut(e.target.checked)}
                  />
                  and leave out {plural(file.unusable, "row that is", "rows that are")} of no use
                </label>
              )}
            </>
          )}
          {file.stage === "recording" && (
            <WordButton disabled={stop.isPending} onClick={() => stop.mutate()}>
              stop
            </WordButton>
          )}
          {(file.stage === "checked" || file.stage === "refused") && (
            <WordButton disabled={drop.isPending} onClick={() => drop.mutate()}>
              put the file away
            </WordButton>
          )}
        </div>
      )}
      <Trouble error={record.error ?? stop.error ?? drop.error} />
    </section>
  );
}

function Said({ of: file }: { of: UsageFile }) {
  const before = file.stage === "checked";
  return (
    <p>
      {plural(file.rows, "row")}.{" "}
      {before
        ? `${plural(file.usable, "call is", "calls are")} new. `
        : `${plural(file.recorded, "call was", "calls were")} recorded. `}
      {file.known > 0 &&
        `${plural(file.known, "row says", "rows say")} a call again that is known already. It counts once. `}
      {file.differing > 0 && `${count(file.differing)} of these said something else, and were set aside. `}
      {file.unusable > 0 && `${plural(file.unusable, "row is", "rows are")} of no use.`}
    </p>
  );
}

function Months({ of: file }: { of: UsageFile }) {
  const months = useQuery(usageMonths(file.id, file.stage));
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  const [striking, setStriking] = useState<Partial<Console["CallsIn"]> | null>(null);
  const done = file.stage === "done" || file.stage === "stopped" || file.stage === "recording";
  return (
    <section aria-label="What it comes to" className="mt-5">
      <h2 className="font-display text-[19px]">What it comes to</h2>
      <Trouble error={months.error} />
      {!months.data && !months.error && <Waiting words="Adding it up" />}
      {months.data && (
        <Table
          rows={months.data}
          id={(m) => `${m.month} ${m.consumer_id}`}
          columns={[
            { head: "Month", cell: (m) => month(m.month), look: "whitespace-nowrap" },
            {
              head: "Consumer",
              names: true,
              look: "whitespace-nowrap",
              cell: (m) => (
                <Link className="figure-link" to={`/admit/consumers/${m.consumer_id}`}>
                  {m.consumer}
                </Link>
              ),
            },
            {
              head: "Calls",
              number: true,
              cell: (m) =>
                done ? (
                  <Link
                    className="figure-link"
                    to={`/observe/traffic?consumer=${m.consumer_id}&usage_file=${file.id}`}
                  >
                    {count(m.calls)}
                  </Link>
                ) : (
                  count(m.calls)
                ),
            },
            { head: "Units", cell: (m) => <Units of={m} /> },
            { head: "Charged", cell: (m) => <Charged of={m} /> },
            done &&
              finance && {
                head: "Strike out",
                quiet: true,
                cell: (m) => (
                  <WordButton onClick={() => setStriking({ consumer: m.consumer_id, usage_file: file.id })}>
                    strike out<span className="sr-only"> what it has of {m.consumer}</span>…
                  </WordButton>
                ),
              },
          ]}
        />
      )}
      {striking && <StrikeOut which={striking} onClose={() => setStriking(null)} />}
    </section>
  );
}

function Units({ of: m }: { of: Month }) {
  if (m.units.length === 0) return <span className="text-soft">no meter counts them</span>;
  return m.units.map((each) => (
    <div key={each.meter_id}>
      {count(each.units)}{" "}
      <Link className="figure-link" to={`/compose/meters/${each.meter_id}`}>
        {each.meter}
      </Link>
    </div>
  ));
}

function Charged({ of: m }: { of: Month }) {
  if (!m.invoice_id) return <>with their month</>;
  return (
    <>
      late: <span className="text-soft">the month is on </span>
      <Link className="figure-link whitespace-nowrap" to={`/settle/invoices/${m.invoice_id}`}>
        {m.number || "nothing due"}
      </Link>
      <span className="text-soft">; they go on the next invoice</span>
    </>
  );
}

function Unusable({ of: file }: { of: UsageFile }) {
  const list = useList(
    "/usage/files/{usage_file_id}/unusable",
    (query) =>
      api.get("/usage/files/{usage_file_id}/unusable", {
        params: { path: { usage_file_id: file.id }, query },
      }),
    { fill: { usage_file_id: String(file.id) } },
  );
  return (
    <section aria-label="Rows of no use" className="mt-6">
      <h2 className="font-display text-[19px]">Rows of no use</h2>
      <Listing
        list={list}
        id={(r) => r.line}
        words="Why"
        reading="Reading them"
        empty="No row is like that."
        columns={[
          { head: "Line", number: true, look: "align-top", cell: (r) => count(r.line), width: "w-16" },
          { head: "Why", look: "align-top", cell: (r) => r.why, width: "w-[36%]" },
          {
            head: "As it stands",
            cell: (r) => <span className="font-mono text-[12px] break-all">{r.text}</span>,
          },
        ]}
      />
    </section>
  );
}
