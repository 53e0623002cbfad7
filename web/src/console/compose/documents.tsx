import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { apiVersion, documentAgainst, documentRead, STALE } from "../../api/queries/compose";
import { Button, Note, Trouble, Waiting, WordButton } from "../../kit/controls";
import { count, plural } from "../../kit/format";
import { Aside, Page, Pair } from "../frame";
import { ApiFields, type First, FirstState, type Settings } from "./api-fields";

type Reading = Console["ReadingView"];

/** Bringing in an OpenAPI document: choose or paste it, then it is read. */
export function NewDocument() {
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const [text, setText] = useState("");
  const [name, setName] = useState("");
  const to = search.get("to");
  const begin = useMutation({
    mutationFn: () => api.post("/documents", { body: { name, text } }),
    onSuccess: (reading) => navigate(`/compose/documents/${reading.id}${to ? `?to=${to}` : ""}`),
  });
  const take = async (file: File | undefined) => {
    if (!file) return;
    setName(file.name);
    setText(await file.text());
  };
  return (
    <Page
      title={to ? "A newer document" : "Bring in a document"}
      sub="OpenAPI 2.0, 3.0 or 3.1, as JSON or YAML, up to 20 MB. Nothing changes before you have seen what it says."
    >
      <form
        className="mt-5 max-w-[760px]"
        onSubmit={(e) => {
          e.preventDefault();
          begin.mutate();
        }}
      >
        <label className="mb-3 block text-[13px] text-soft">
          From a file
          <input
            type="file"
            accept=".json,.yaml,.yml,application/json,application/yaml"
            className="mt-1 block text-ink file:mr-3 file:cursor-pointer file:rounded file:border file:border-line file:bg-sheet file:px-3 file:py-1 file:text-[13px]"
            onChange={(e) => take(e.target.files?.[0])}
          />
        </label>
        <label className="mb-3 block text-[13px] text-soft">
          Or paste its text
          <textarea
            className="field mt-1 h-72 rounded border border-line p-2 font-mono text-[12px] text-ink"
            spellCheck={false}
            value={text.length > 300_000 ? `${text.slice(0, 300_000)}\n…` : text}
            onChange={(e) => {
              setText(e.target.value);
              setName("");
            }}
          />
        </label>
        {text.length > 300_000 && (
          <p className="mb-3 text-[13px] text-soft">
            The beginning of {name || "the text"}; all {count(Math.round(text.length / 1000))} thousand
            characters are read.
          </p>
        )}
        <Trouble error={begin.error} />
        <Button main type="submit" disabled={!text.trim() || begin.isPending}>
          {begin.isPending ? "Sending it …" : "Read it"}
        </Button>
      </form>
    </Page>
  );
}

/** A document being read: progress, then its findings and what applying it would do. */
export function DocumentPage() {
  const { id } = useParams();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const to = search.get("to");
  const one = useQuery(documentRead(Number(id)));
  const stop = useMutation({
    mutationFn: () => api.delete("/documents/{reading_id}", { params: { path: { reading_id: Number(id) } } }),
    onSuccess: () => navigate("/compose/apis"),
  });
  const reading = one.data;
  if (!reading)
    return (
      <Page title="Document">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Looking for the document" />}
      </Page>
    );
  const away = (
    <WordButton onClick={() => stop.mutate()}>
      {reading.stage === "reading" ? "Stop" : "Put it away"}
    </WordButton>
  );
  return (
    <Page
      title={reading.title || reading.name}
      sub={
        <>
          {reading.name}, brought in by {reading.started_by} · {STAGES[reading.stage] ?? reading.stage} ·{" "}
          {away}
        </>
      }
      margin={reading.stage === "read" && <Found reading={reading} />}
    >
      {reading.stage === "reading" && <Progress reading={reading} />}
      {reading.findings.length > 0 && <Findings reading={reading} />}
      {reading.stage === "read" &&
        (to ? <Replace reading={reading} versionId={Number(to)} /> : <AsNew reading={reading} />)}
      {reading.stage === "stopped" && (
        <p className="mt-4 text-soft">Reading it was stopped. Bring it in once more to go on.</p>
      )}
    </Page>
  );
}

const STAGES: Record<string, string> = {
  reading: "being read",
  read: "read",
  failed: "it cannot be read",
  stopped: "stopped",
};

function Progress({ reading }: { reading: Reading }) {
  return (
    <div className="my-6 max-w-[520px]" role="status">
      <progress className="w-full accent-(--color-kelp)" value={reading.done} max={reading.total || 1} />
      <p className="text-soft">
        {reading.total
          ? `${count(reading.done)} of ${plural(reading.total, "operation")} read`
          : "Parsing the document"}
        . You can leave this page; the reading goes on.
      </p>
    </div>
  );
}

function Findings({ reading }: { reading: Reading }) {
  const [all, setAll] = useState(false);
  const shown = all ? reading.findings : reading.findings.slice(0, 8);
  return (
    <section className="mt-4">
      <h2 className="border-b border-line pb-1">
        {reading.stage === "failed"
          ? "What is wrong"
          : `${plural(reading.findings.length, "finding")}, ${reading.left_out} of them left out`}
      </h2>
      <table className="plain-table">
        <tbody>
          {shown.map((f) => (
            <tr key={f.where + f.what}>
              <td className={`whitespace-nowrap ${f.weight === "left out" ? "text-madder" : "text-brass"}`}>
                {f.weight}
              </td>
              <td className="max-w-[300px] break-all font-mono text-[12px]">{f.where}</td>
              <td>{f.what}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {reading.findings.length > 8 && (
        <WordButton onClick={() => setAll(!all)}>
          {all ? "fewer" : `all ${reading.findings.length}`}
        </WordButton>
      )}
    </section>
  );
}

function Found({ reading }: { reading: Reading }) {
  return (
    <Aside title="What it describes">
      <Pair name="Operations">{count(reading.operations)}</Pair>
      <Pair name="Version it says">{reading.version || "none"}</Pair>
      {reading.servers.length > 0 && (
        <p className="break-all text-soft">Served from {reading.servers.slice(0, 2).join(", ")}</p>
      )}
      <p className="mt-2 text-soft">
        {reading.groups.length
          ? `Groups: ${reading.groups.slice(0, 12).join(", ")}${reading.groups.length > 12 ? " …" : ""}`
          : "It groups nothing."}
      </p>
      <div className="mt-2">
        {reading.first.map((label) => (
          <div key={label} className="truncate" title={label}>
            {label}
          </div>
        ))}
        {reading.operations > reading.first.length && (
          <div className="text-soft">and {count(reading.operations - reading.first.length)} more</div>
        )}
      </div>
    </Aside>
  );
}

function Agree({
  reading,
  agreed,
  onChange,
}: {
  reading: Reading;
  agreed: boolean;
  onChange: (agreed: boolean) => void;
}) {
  if (!reading.left_out) return null;
  return (
    <label className="my-3 flex items-baseline gap-2">
      <input
        type="checkbox"
        className="accent-(--color-kelp)"
        checked={agreed}
        onChange={(e) => onChange(e.target.checked)}
      />
      {plural(reading.left_out, "part")} may be left out; take the rest.
    </label>
  );
}

function AsNew({ reading }: { reading: Reading }) {
  const navigate = useNavigate();
  const stale = useStale();
  const [agreed, setAgreed] = useState(false);
  const [typed, setTyped] = useState<Settings>(() => begun(reading));
  const [state, setState] = useState<First>("live");
  const apply = useMutation({
    mutationFn: () =>
      api.post("/documents/{reading_id}/as-new", {
        params: { path: { reading_id: reading.id } },
        body: { ...typed, state, agreed },
      }),
    onSuccess: async (made) => {
      await stale(STALE.document);
      navigate(`/compose/apis/${made.id}`, { replace: true });
    },
  });
  return (
    <form
      className="mt-5 max-w-[760px]"
      onSubmit={(e) => {
        e.preventDefault();
        apply.mutate();
      }}
    >
      <h2 className="mb-2 border-b border-line pb-1">It becomes</h2>
      <ApiFields typed={typed} onChange={setTyped} />
      <FirstState state={state} onChange={setState} />
      <Agree reading={reading} agreed={agreed} onChange={setAgreed} />
      <Trouble error={apply.error} />
      <Button
        main
        type="submit"
        disabled={apply.isPending || reading.operations === 0 || (reading.left_out > 0 && !agreed)}
      >
        Take in {plural(reading.operations, "operation")}
      </Button>
      {apply.isPending && (
        <Waiting words={`Taking in ${plural(reading.operations, "operation")}, all or none`} />
      )}
    </form>
  );
}

/** What a document suggests for the version it becomes. */
function begun(reading: Reading): Settings {
  const version = /^\d+/.exec(reading.version)?.[0];
  const name = reading.title || "";
  const word = name
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-+|-+$/g, "");
  return {
    name,
    version: version ? `v${version}` : "v1",
    description: "",
    base_path: word ? `/${word}/v${version ?? 1}` : "",
    back_end_url: "",
    capacity_per_second: null,
    chosen_by: "path",
    chosen_name: "",
    chosen_value: "",
    sandbox_url: "",
    health_path: "",
  };
}

function Replace({ reading, versionId }: { reading: Reading; versionId: number }) {
  const navigate = useNavigate();
  const stale = useStale();
  const [agreed, setAgreed] = useState(false);
  const path = { reading_id: reading.id, version_id: versionId };
  const version = useQuery(apiVersion(versionId));
  const against = useQuery(documentAgainst(reading.id, versionId));
  const apply = useMutation({
    mutationFn: () =>
      api.post("/documents/{reading_id}/to/{version_id}", {
        params: { path, header: { "if-match": `"${version.data?.edition ?? 0}"` } },
        body: { agreed },
      }),
    onSuccess: async () => {
      await stale(STALE.document);
      navigate(`/compose/apis/${versionId}`, { replace: true });
    },
  });
  const d = against.data;
  if (!d || !version.data)
    return against.error ? (
      <Trouble error={against.error} />
    ) : (
      <Waiting words="Comparing it with what is there" />
    );
  const touched = d.removed.filter((r) => r.meters.length || r.plans.length);
  return (
    <section className="mt-5 max-w-[760px]">
      <h2 className="mb-1 border-b border-line pb-1">
        Against {version.data.name} {version.data.version}
      </h2>
      <p className="py-1 text-soft">
        {plural(d.added.length, "operation")} added, {count(d.changed.length)} changed,{" "}
        {count(d.removed.length)} removed, {count(d.unchanged)} as they are.
      </p>
      <Listed title="Added" lines={d.added} />
      {d.changed.length > 0 && (
        <Listed title="Changed" lines={d.changed.map((c) => `${c.operation}: ${c.was} → ${c.becomes}`)} />
      )}
      {d.removed.length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">Removed</h3>
          {d.removed.map((r) => (
            <div key={r.operation} className="border-b border-line-soft py-1.5">
              {r.operation}
              {(r.meters.length > 0 || r.plans.length > 0) && (
                <div className="text-madder">
                  {[
                    r.meters.length && `counted by ${r.meters.join(", ")}`,
                    r.plans.length && `sold by ${r.plans.join(", ")}`,
                    r.subscriptions && `to ${plural(r.subscriptions, "subscription")}`,
                  ]
                    .filter(Boolean)
                    .join(", ")}
                </div>
              )}
            </div>
          ))}
        </>
      )}
      {touched.length > 0 && (
        <Note>
          Removed operations leave the products that sell them, and calls to them are answered 404. Recorded
          calls, sealed meters and invoices keep speaking of them.
        </Note>
      )}
      <Agree reading={reading} agreed={agreed} onChange={setAgreed} />
      <Trouble error={apply.error} />
      <Button
        main
        disabled={apply.isPending || (reading.left_out > 0 && !agreed)}
        onClick={() => apply.mutate()}
      >
        {touched.length ? `Apply it, and take ${plural(touched.length, "operation")} from sale` : "Apply it"}
      </Button>
      {apply.isPending && (
        <Waiting words={`Applying it to ${version.data.name} ${version.data.version}, whole or not at all`} />
      )}
    </section>
  );
}

function Listed({ title, lines }: { title: string; lines: string[] }) {
  const [all, setAll] = useState(false);
  if (!lines.length) return null;
  return (
    <>
      <h3 className="mt-3 font-semibold">{title}</h3>
      {(all ? lines : lines.slice(0, 10)).map((line) => (
        <div key={line} className="border-b border-line-soft py-1">
          {line}
        </div>
      ))}
      {lines.length > 10 && (
        <WordButton onClick={() => setAll(!all)}>{all ? "fewer" : `all ${lines.length}`}</WordButton>
      )}
    </>
  );
}
