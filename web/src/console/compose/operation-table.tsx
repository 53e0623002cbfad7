import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { operations, STALE } from "../../api/queries/compose";
import { useAddress } from "../../kit/address";
import { Choose } from "../../kit/choose";
import { Button, Dialog, Field, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Choice, Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { count, plural } from "../../kit/format";
import { Table } from "../../kit/table";
import { METHODS } from "./apis";

type View = Console["ApiView"];
type Operation = Console["OperationView"];
type Answers = Console["AnswersIn"]["answers"];
const SIZE = 60;

/** The operations of a version, a page at a time, with who counts and who sells each. */
export function OperationTable({ view }: { view: View }) {
  const stale = useStale();
  const { search, change } = useAddress();
  const words = search.get("words") ?? "";
  const group = search.get("group");
  const standing = search.get("standing") as "unsold" | "uncounted" | null;
  const after = Number(search.get("after") ?? 0);
  const [chosen, setChosen] = useState<number[]>([]);
  const [edited, setEdited] = useState<Operation | "new" | null>(null);
  const page = useQuery(
    operations(view.id, {
      words,
      group: group ?? undefined,
      standing: standing ?? undefined,
      after,
      limit: SIZE,
    }),
  );
  const narrow = (part: Record<string, string | null>) => change({ after: null, ...part });
  const refresh = async () => {
    setChosen([]);
    await stale(STALE.operations);
  };
  const data = page.data;
  const narrowed = new URLSearchParams(search);
  narrowed.delete("after");
  const groups = Object.entries(view.groups);
  return (
    <section className="mt-4" aria-label="Operations">
      <div className="grid grid-cols-[2fr_1.3fr_1.3fr_auto] items-end gap-x-5">
        <Field label="With the words" value={words} onChange={(value) => narrow({ words: value || null })} />
        <Choose
          label="Group"
          value={group === null ? "*" : group || "-"}
          choices={[
            ["*", "every group"],
            ...groups.map(
              ([name, n]) => [name || "-", `${name || "in no group"} (${count(n)})`] as [string, string],
            ),
          ]}
          onChange={(value) => narrow({ group: value === "*" ? null : value === "-" ? "" : value })}
        />
        <Choose
          label="Standing"
          value={standing ?? ""}
          choices={[
            ["", "all"],
            ["unsold", "sold by no plan"],
            ["uncounted", "counted by no meter"],
          ]}
          onChange={(value) => narrow({ standing: value || null })}
        />
        <div className="mb-3">
          <Button small onClick={() => setEdited("new")}>
            Add an operation
          </Button>
        </div>
      </div>
      {chosen.length > 0 && (
        <div className="mb-2 border-l-[3px] border-kelp pl-3">
          <Group view={view} chosen={chosen} onDone={refresh} />
          <Anyone view={view} chosen={chosen} onDone={refresh} />
        </div>
      )}
      <Trouble error={page.error} />
      {!data && <Waiting words="Reading the operations" />}
      {data && data.operations.length === 0 && <p className="py-3 text-soft">No operation is like that.</p>}
      {data && data.operations.length > 0 && (
        <Table
          rows={data.operations}
          id={(o) => o.id}
          columns={[
            {
              width: "w-6",
              head: (
                <input
                  type="checkbox"
                  aria-label="Choose all of this page"
                  className="accent-(--color-kelp)"
                  checked={chosen.length === data.operations.length}
                  onChange={(e) => setChosen(e.target.checked ? data.operations.map((o) => o.id) : [])}
                />
              ),
              cell: (o) => (
                <input
                  type="checkbox"
                  aria-label={`Choose ${o.method} ${o.path}`}
                  className="accent-(--color-kelp)"
                  checked={chosen.includes(o.id)}
                  onChange={() =>
                    setChosen(chosen.includes(o.id) ? chosen.filter((c) => c !== o.id) : [...chosen, o.id])
                  }
                />
              ),
            },
            {
              head: "Operation",
              width: "w-[40%]",
              look: "max-w-[320px]",
              cell: (o) => (
                <>
                  <WordButton onClick={() => setEdited(o)} className="text-left wrap-anywhere">
                    {o.method} {o.path}
                  </WordButton>
                  {o.answers !== "back end" && (
                    <div className="text-[13px] text-brass">
                      answers with its example{o.answers === "sandbox example" && " in the sandbox"}
                    </div>
                  )}
                  {o.summary && <div className="text-[13px] text-soft">{o.summary}</div>}
                  {o.tried_by_anyone && (
                    <div className="text-[13px] text-soft">anyone may try it in the sandbox</div>
                  )}
                </>
              ),
            },
            { head: "Group", cell: (o) => o.groups.join(", ") },
            {
              head: "Counted by",
              cell: (o) => o.meters.join(", ") || <b className="font-normal text-brass">no meter</b>,
            },
            {
              head: "Sold by",
              cell: (o) => sellers(o.plans) || <b className="font-normal text-brass">no plan</b>,
            },
          ]}
        />
      )}
      {data && data.total > 0 && (
        <p className="mt-2 flex gap-4 text-[13px] text-soft">
          <span>
            {data.total > data.operations.length
              ? `${count(after + 1)} to ${count(after + data.operations.length)} of ${plural(data.total, "operation")}`
              : `${count(data.total)} in all`}
          </span>
          <a className="figure-link" href={`/api/v1/apis/${view.id}/operations.csv?${narrowed}`} download>
            Save as CSV
          </a>
          {after > 0 && (
            <WordButton onClick={() => narrow({ after: String(Math.max(0, after - SIZE)) })}>
              before
            </WordButton>
          )}
          {data.after !== null && (
            <WordButton onClick={() => narrow({ after: String(data.after) })}>further</WordButton>
          )}
        </p>
      )}
      {edited && (
        <EditOperation
          view={view}
          operation={edited === "new" ? null : edited}
          onClose={() => setEdited(null)}
          onDone={async () => {
            setEdited(null);
            await refresh();
          }}
        />
      )}
    </section>
  );
}

/** Plans by product: `Harbour Data: Skiff, Ketch`. */
function sellers(plans: string[]): string {
  const by = new Map<string, string[]>();
  for (const plan of plans) {
    const [product = "", name = ""] = plan.split(" · ");
    by.set(product, [...(by.get(product) ?? []), ...(name ? [name] : [])]);
  }
  return [...by].map(([product, names]) => `${product}: ${names.join(", ") || "no plan yet"}`).join("; ");
}

function Group({ view, chosen, onDone }: { view: View; chosen: number[]; onDone: () => void }) {
  const [group, setGroup] = useState("");
  const put = useMutation({
    mutationFn: (belongs: boolean) =>
      api.post("/apis/{version_id}/groups", {
        params: { path: { version_id: view.id } },
        body: { operations: chosen, group, belongs },
      }),
    onSuccess: onDone,
  });
  return (
    <div className="flex items-end gap-3">
      <div className="w-56">
        <Field
          label={`Group of the ${plural(chosen.length, "chosen operation")}`}
          list="groups"
          value={group}
          onChange={setGroup}
        />
        <datalist id="groups">
          {Object.keys(view.groups).map((name) => (
            <option key={name} value={name} />
          ))}
        </datalist>
      </div>
      <div className="mb-3 flex gap-2">
        <Button small disabled={!group} onClick={() => put.mutate(true)}>
          Put in
        </Button>
        <Button small disabled={!group} onClick={() => put.mutate(false)}>
          Take out
        </Button>
      </div>
      <Trouble error={put.error} />
    </div>
  );
}

/** Whether operations may be tried in the sandbox without an account. */
function Anyone({ view, chosen, onDone }: { view: View; chosen: number[]; onDone: () => void }) {
  const allow = useMutation({
    mutationFn: (allowed: boolean) =>
      api.post("/apis/{version_id}/operations/trying", {
        params: { path: { version_id: view.id } },
        body: { operations: chosen, allowed },
      }),
    onSuccess: onDone,
  });
  return (
    <>
      <p className="pb-1 text-[13.5px]">
        Without an account, in the sandbox:{" "}
        <WordButton disabled={allow.isPending} onClick={() => allow.mutate(true)}>
          anyone may try {chosen.length === 1 ? "it" : "them"}
        </WordButton>{" "}
        ·{" "}
        <WordButton disabled={allow.isPending} onClick={() => allow.mutate(false)}>
          nobody may
        </WordButton>
      </p>
      <Trouble error={allow.error} />
    </>
  );
}

function EditOperation({
  view,
  operation,
  onClose,
  onDone,
}: {
  view: View;
  operation: Operation | null;
  onClose: () => void;
  onDone: () => void;
}) {
  const entry = useEntry({
    start: {
      method: operation?.method ?? "GET",
      path: operation?.path ?? "/",
      summary: operation?.summary ?? "",
      groups: operation?.groups.join(", ") ?? "",
      answers: ((operation?.answers as Answers) ?? "back end") as Answers,
    },
    send: async ({ answers, ...typed }) => {
      const body = { ...typed, groups: typed.groups.split(",").map((g) => g.trim()) };
      if (!operation)
        return api.post("/apis/{version_id}/operations", { params: { path: { version_id: view.id } }, body });
      const path = { operation_id: operation.id };
      if (answers !== operation.answers)
        await api.put("/operations/{operation_id}/answers", { params: { path }, body: { answers } });
      return api.put("/operations/{operation_id}", { params: { path }, body });
    },
    done: onDone,
  });
  const remove = useMutation({
    mutationFn: () =>
      api.delete("/operations/{operation_id}", { params: { path: { operation_id: operation?.id ?? 0 } } }),
    onSuccess: onDone,
  });
  return (
    <Dialog
      open
      onClose={onClose}
      title={operation ? `${operation.method} ${operation.path}` : "A new operation"}
    >
      <Form of={entry}>
        <div className="grid grid-cols-[90px_1fr] gap-4">
          <Choice name="method" label="Method" choices={METHODS} />
          <Line name="path" label="Path" required />
        </div>
        <Line name="summary" label="In words" />
        <Line name="groups" label="Groups, with commas between" />
        {operation && (
          <Choice
            name="answers"
            label="It answers"
            choices={[
              ["back end", "from the back end"],
              ["sandbox example", "in the sandbox with its document's example, live from the back end"],
              ["example", "with its document's example: no back end is asked"],
            ]}
          />
        )}
        <Trouble error={remove.error} />
        <Refused />
        <div className="mt-3 flex justify-between">
          {operation ? (
            <Button onClick={() => remove.mutate()} disabled={remove.isPending}>
              Take it away
            </Button>
          ) : (
            <span />
          )}
          <Send>{operation ? "Save" : "Add it"}</Send>
        </div>
      </Form>
    </Dialog>
  );
}
