import { useFieldArray } from "react-hook-form";
import { useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/compose";
import { Button, WordButton } from "../../kit/controls";
import { Choice, Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { dayAndYear } from "../../kit/format";
import { Table } from "../../kit/table";
import { Page } from "../frame";
import { ListPage, useList } from "../list";
import { ApiFields, FirstState, type Settings } from "./api-fields";

type Typed = Console["ApiIn"];

export function Apis() {
  const navigate = useNavigate();
  const list = useList("/apis", (query) => api.get("/apis", { params: { query } }), { every: 15_000 });
  return (
    <ListPage
      title="APIs"
      sub="What can be called, and where it is answered from."
      list={list}
      reading="Reading the APIs"
      empty="APIs belong here: their operations, and the back end that answers them. Bring in the first document."
      id={(a) => a.id}
      address={(row) => `/compose/apis/${row.id}`}
      actions={
        <>
          <Button onClick={() => navigate("/compose/apis/new")}>Type one by hand</Button>
          <Button main onClick={() => navigate("/compose/documents/new")}>
            Bring in a document
          </Button>
        </>
      }
      columns={[
        { head: "API", cell: (a) => `${a.name} ${a.version}`, sort: "name" },
        {
          head: "State",
          cell: (a) => (a.state === "sunset" && a.sunset_at ? `ends on ${dayAndYear(a.sunset_at)}` : a.state),
          sort: "state",
        },
        { head: "Answers under", cell: (a) => a.base_path, sort: "base_path" },
        { head: "Back end", cell: (a) => <Well well={a.well} /> },
        { head: "Operations", cell: (a) => a.operations, sort: "operations", number: true },
      ]}
    />
  );
}

/** How a back end is, as a word; said loudly only where it is not well. */
export function Well({ well }: { well: boolean | null }) {
  if (well === null) return <span className="text-soft">not asked yet</span>;
  return well ? <>well</> : <b className="font-semibold text-madder">does not answer</b>;
}

const EMPTY: Settings = {
  name: "",
  version: "v1",
  description: "",
  base_path: "",
  back_end_url: "",
  capacity_per_second: null,
  chosen_by: "path",
  chosen_name: "",
  chosen_value: "",
  sandbox_url: "",
  health_path: "",
};

const OPERATION: Typed["operations"][number] = { method: "GET", path: "/", summary: "", groups: [] };
const START: Typed = { ...EMPTY, state: "live", operations: [OPERATION] };

export function NewApi() {
  const navigate = useNavigate();
  const stale = useStale();
  const entry = useEntry({
    start: START,
    send: (body) => api.post("/apis", { body }),
    done: async (made) => {
      await stale(STALE.api);
      navigate(`/compose/apis/${made.id}`, { replace: true });
    },
  });
  const rows = useFieldArray({ control: entry.form.control, name: "operations" });
  return (
    <Page title="A new API" sub="Its operations are typed by hand.">
      <Form of={entry} className="mt-5 max-w-[760px]">
        <ApiFields />
        <FirstState />
        <h2 className="mt-5 border-b border-line pb-1">Operations</h2>
        <Table
          rows={rows.fields}
          id={(row) => row.id}
          columns={[
            {
              head: "Method",
              width: "w-24",
              cell: (_, n) => (
                <Choice
                  quiet
                  name={`operations.${n}.method`}
                  label={`Method of operation ${n + 1}`}
                  choices={METHODS}
                />
              ),
            },
            {
              head: "Path",
              cell: (_, n) => (
                <Line quiet required name={`operations.${n}.path`} label={`Path of operation ${n + 1}`} />
              ),
            },
            {
              head: "In words",
              cell: (_, n) => (
                <Line quiet name={`operations.${n}.summary`} label={`Operation ${n + 1} in words`} />
              ),
            },
            {
              head: "Remove",
              quiet: true,
              width: "w-20",
              number: true,
              cell: (_, n) => (
                <WordButton aria-label={`Take away operation ${n + 1}`} onClick={() => rows.remove(n)}>
                  take away
                </WordButton>
              ),
            },
          ]}
        />
        <div className="mt-3 flex items-center justify-between">
          <WordButton onClick={() => rows.append(OPERATION)}>Add an operation</WordButton>
          <Send>Describe it</Send>
        </div>
        <Refused />
      </Form>
    </Page>
  );
}

export const METHODS = ["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"].map(
  (method) => [method, method] as const,
);
