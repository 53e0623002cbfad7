import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/compose";
import { Button, Trouble, WordButton } from "../../kit/controls";
import { dayAndYear } from "../../kit/format";
import { Page } from "../frame";
import { ListPage, useList } from "../list";
import { ApiFields, type First, FirstState, type Settings } from "./api-fields";

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

export function NewApi() {
  const navigate = useNavigate();
  const stale = useStale();
  const [typed, setTyped] = useState(EMPTY);
  const [state, setState] = useState<First>("live");
  const [operations, setOperations] = useState<Typed["operations"]>([
    { method: "GET", path: "/", summary: "", groups: [] },
  ]);
  const create = useMutation({
    mutationFn: () => api.post("/apis", { body: { ...typed, state, operations } }),
    onSuccess: async (made) => {
      await stale(STALE.api);
      navigate(`/compose/apis/${made.id}`, { replace: true });
    },
  });
  const change = (n: number, part: Partial<Typed["operations"][number]>) =>
    setOperations(operations.map((o, i) => (i === n ? { ...o, ...part } : o)));
  return (
    <Page title="A new API" sub="Its operations are typed by hand.">
      <form
        className="mt-5 max-w-[760px]"
        onSubmit={(e) => {
          e.preventDefault();
          create.mutate();
        }}
      >
        <ApiFields typed={typed} onChange={setTyped} />
        <FirstState state={state} onChange={setState} />
        <h2 className="mt-5 border-b border-line pb-1">Operations</h2>
        <table className="plain-table">
          <thead>
            <tr>
              <th className="w-24">Method</th>
              <th>Path</th>
              <th>In words</th>
              <th className="w-20">
                <span className="sr-only">Remove</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {operations.map((operation, n) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: rows being typed have no other name
              <tr key={n}>
                <td>
                  <MethodSelect
                    label={`Method of operation ${n + 1}`}
                    value={operation.method}
                    onChange={(method) => change(n, { method })}
                  />
                </td>
                <td>
                  <input
                    aria-label={`Path of operation ${n + 1}`}
                    className="field"
                    required
                    value={operation.path}
                    onChange={(e) => change(n, { path: e.target.value })}
                  />
                </td>
                <td>
                  <input
                    aria-label={`Operation ${n + 1} in words`}
                    className="field"
                    value={operation.summary}
                    onChange={(e) => change(n, { summary: e.target.value })}
                  />
                </td>
                <td className="number">
                  <WordButton
                    aria-label={`Take away operation ${n + 1}`}
                    onClick={() => setOperations(operations.filter((_, i) => i !== n))}
                  >
                    take away
                  </WordButton>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <div className="mt-3 flex items-center justify-between">
          <WordButton
            onClick={() =>
              setOperations([...operations, { method: "GET", path: "/", summary: "", groups: [] }])
            }
          >
            Add an operation
          </WordButton>
          <Button main type="submit" disabled={create.isPending}>
            Describe it
          </Button>
        </div>
        <Trouble error={create.error} />
      </form>
    </Page>
  );
}

const METHODS = ["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"];

export function MethodSelect({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <select aria-label={label} className="field" value={value} onChange={(e) => onChange(e.target.value)}>
      {METHODS.map((m) => (
        <option key={m}>{m}</option>
      ))}
    </select>
  );
}
