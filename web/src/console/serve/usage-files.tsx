import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { me } from "../../api/queries/house";
import { STALE } from "../../api/queries/serve";
import { Button, Dialog } from "../../kit/controls";
import { Line, OneFile } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { count, dayAndMinute } from "../../kit/format";
import { Listing } from "../../kit/list";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";
import { useList } from "../list";
import { isOne } from "../roles";

export type UsageFile = Console["UsageFileView"];

const STAGES: Record<UsageFile["stage"], string> = {
  checking: "being checked",
  checked: "checked; nothing is recorded yet",
  recording: "being recorded",
  stopped: "stopped",
  done: "recorded",
  refused: "refused",
};

export const stageInWords = ({ stage }: UsageFile) => STAGES[stage];

/** Calls that other gateways counted: the files they came with, and how far these are recorded. */
export function UsageFiles() {
  const roles = useQuery(me()).data?.roles;
  const [bringing, setBringing] = useState(false);
  const list = useList("/usage/files", (query) => api.get("/usage/files", { params: { query } }), {
    every: 5_000,
  });
  return (
    <Page
      title="Usage from elsewhere"
      sub="Calls that other gateways counted, metered and charged as our own. Each source and id counts once."
      margin={<Columns />}
    >
      <Listing
        list={list}
        id={(f) => f.id}
        address={(f) => `/settle/usage/${f.id}`}
        words="File named"
        actions={
          isOne(roles, ["finance", "operations"]) && (
            <Button main onClick={() => setBringing(true)}>
              Bring a file in…
            </Button>
          )
        }
        reading="Reading what came from elsewhere"
        empty="Nothing has come from elsewhere yet: bring a file in, or have a script send calls to POST /api/v1/usage."
        more="Earlier ones"
        columns={[
          { head: "File", cell: (f) => f.name },
          { head: "Brought in", cell: (f) => `${dayAndMinute(f.brought_at)}, ${f.brought_by}` },
          { head: "Rows", number: true, cell: (f) => count(f.rows) },
          { head: "Recorded", number: true, cell: (f) => count(f.recorded) },
          { head: "Known before", number: true, cell: (f) => count(f.known) },
          { head: "No use", number: true, cell: (f) => count(f.unusable) },
          { head: "It is", cell: stageInWords },
        ]}
      />
      {bringing && <BringIn onClose={() => setBringing(false)} />}
    </Page>
  );
}

const COLUMNS: [string, string, boolean][] = [
  ["source", "which gateway counted it; or say it once for the whole file", true],
  ["id", "how that gateway names the call", true],
  ["time", "with its offset from UTC, as 2026-09-30T23:59:59+01:00", true],
  ["application", "the client id of who called", false],
  ["credential", "or the visible beginning of the key", false],
  ["operation", "GET /tides/v1/stations/{id}, or:", false],
  ["method, path", "the same in two columns, as it was called", false],
  ["api", "Tides v2, where two versions have the same paths", false],
  ["status", "what it was answered", true],
  ["verdict", "refused, where it was; it then counts nothing", false],
  ["bytes_in, bytes_out", "of the bodies", false],
  ["reported:HEADER", "a number that the back end reported", false],
];

/** What stands in a file. */
function Columns() {
  return (
    <Aside title="What stands in a file">
      <p className="text-soft">
        CSV with these columns, JSON Lines with these names, or CloudEvents whose data has them.
      </p>
      <Table
        tight
        className="mt-2"
        rows={COLUMNS}
        id={([name]) => name}
        columns={[
          {
            head: "Column",
            names: true,
            look: "align-top break-words",
            cell: ([name, , needed]) => <span className={needed ? "font-semibold" : ""}>{name}</span>,
          },
          { head: "Holds", look: "text-soft", cell: ([, holds]) => holds },
        ]}
      />
      <p className="mt-2 text-[13px] text-soft">
        Each row needs those that stand out. A quota counts what our own gateways let in; what comes from
        elsewhere is charged, and takes nothing from it.
      </p>
    </Aside>
  );
}

type Typed = { file: File | null; source: string };

function BringIn({ onClose }: { onClose: () => void }) {
  const navigate = useNavigate();
  const stale = useStale();
  const entry = useEntry<Typed, UsageFile>({
    start: { file: null, source: "" },
    send: ({ file, source }) =>
      api.post("/usage/files", {
        params: { query: { name: file?.name ?? "", source } },
        // As it stands on the disk: a browser reads none of it.
        body: file as unknown as string,
        bodySerializer: (body: unknown) => body as Blob,
        headers: { "content-type": "application/octet-stream" },
      }),
    done: async (made) => {
      await stale(STALE.usage);
      navigate(`/settle/usage/${made.id}`);
    },
  });
  const { file } = entry.form.watch();
  return (
    <Dialog open onClose={onClose} title="Bring a file in">
      <Form of={entry}>
        <OneFile
          name="file"
          label="Calls as CSV, JSON Lines or CloudEvents"
          accept=".csv,.json,.jsonl,.ndjson,text/csv,application/json"
        />
        <Line name="source" label="Source of rows that name none" />
        <Ends onLeave={onClose}>
          <Send disabled={!file}>Check its rows</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
