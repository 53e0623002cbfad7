import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { apiVersion, documentAgainst, documentRead, STALE } from "../../api/queries/compose";
import { Note, Trouble, Waiting, WordButton } from "../../kit/controls";
import { TextFile, Tick } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { count, plural } from "../../kit/format";
import { Table } from "../../kit/table";
import { Aside, Page, Pair } from "../frame";
import { ApiFields, FirstState } from "./api-fields";

type Reading = Console["ReadingView"];
/** Of a text longer than this many characters the beginning is shown. */
const MOST_SHOWN = 300_000;

/** Bringing in an OpenAPI document: choose or paste it, then it is read. */
export function NewDocument() {
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const to = search.get("to");
  const entry = useEntry({
    start: { name: "", text: "" },
    send: (body) => api.post("/documents", { body }),
    done: (reading) => navigate(`/compose/documents/${reading.id}${to ? `?to=${to}` : ""}`),
  });
  const { name, text } = entry.form.watch();
  const long = text.length > MOST_SHOWN;
  return (
    <Page
      title={to ? "A newer document" : "Bring in a document"}
      sub="OpenAPI 2.0, 3.0 or 3.1, as JSON or YAML, up to 20 MB. Nothing changes before you have seen what it says."
    >
      <Form of={entry} className="mt-5 max-w-[760px]">
        <TextFile
          name="text"
          accept=".json,.yaml,.yml,application/json,application/yaml"
          label="Or paste its text"
          height="h-72"
          shows={(whole) => (long ? `${whole.slice(0, MOST_SHOWN)}\n…` : whole)}
          onName={(from) => entry.form.setValue("name", from)}
        />
        {long && (
          <p className="mb-3 text-[13px] text-soft">
            The beginning of {name || "the text"}; all {count(Math.round(text.length / 1000))} thousand
            characters are read.
          </p>
        )}
        <Refused />
        <Send disabled={!text.trim()}>{entry.sending ? "Sending it …" : "Read it"}</Send>
      </Form>
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
      <Table
        rows={shown}
        id={(f) => f.where + f.what}
        columns={[
          {
            cell: (f) => f.weight,
            look: (f) => `whitespace-nowrap ${f.weight === "left out" ? "text-madder" : "text-brass"}`,
          },
          { cell: (f) => f.where, look: "max-w-[300px] break-all font-mono text-[12px]" },
          { cell: (f) => f.what },
        ]}
      />
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

/** That parts may be left out is agreed to. */
function Agree({ reading }: { reading: Reading }) {
  if (!reading.left_out) return null;
  return (
    <Tick name="agreed" className="my-3">
      {plural(reading.left_out, "part")} may be left out; take the rest.
    </Tick>
  );
}

function AsNew({ reading }: { reading: Reading }) {
  const navigate = useNavigate();
  const stale = useStale();
  const entry = useEntry({
    start: begun(reading),
    send: (body) =>
      api.post("/documents/{reading_id}/as-new", { params: { path: { reading_id: reading.id } }, body }),
    done: async (made) => {
      await stale(STALE.document);
      navigate(`/compose/apis/${made.id}`, { replace: true });
    },
  });
  const { agreed } = entry.form.watch();
  return (
    <Form of={entry} className="mt-5 max-w-[760px]">
      <h2 className="mb-2 border-b border-line pb-1">It becomes</h2>
      <ApiFields />
      <FirstState />
      <Agree reading={reading} />
      <Refused />
      <Send disabled={reading.operations === 0 || (reading.left_out > 0 && !agreed)}>
        Take in {plural(reading.operations, "operation")}
      </Send>
      {entry.sending && (
        <Waiting words={`Taking in ${plural(reading.operations, "operation")}, all or none`} />
      )}
    </Form>
  );
}

/** What a document suggests for the version it becomes. */
function begun(reading: Reading): Console["NewFromDocument"] {
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
    state: "live",
    agreed: false,
  };
}

function Replace({ reading, versionId }: { reading: Reading; versionId: number }) {
  const navigate = useNavigate();
  const stale = useStale();
  const path = { reading_id: reading.id, version_id: versionId };
  const version = useQuery(apiVersion(versionId));
  const against = useQuery(documentAgainst(reading.id, versionId));
  const entry = useEntry({
    start: { agreed: false },
    send: (body) =>
      api.post("/documents/{reading_id}/to/{version_id}", {
        params: { path, header: { "if-match": `"${version.data?.edition ?? 0}"` } },
        body,
      }),
    done: async () => {
      await stale(STALE.document);
      navigate(`/compose/apis/${versionId}`, { replace: true });
    },
  });
  const { agreed } = entry.form.watch();
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
      <Form of={entry}>
        <Agree reading={reading} />
        <Refused />
        <Send disabled={reading.left_out > 0 && !agreed}>
          {touched.length
            ? `Apply it, and take ${plural(touched.length, "operation")} from sale`
            : "Apply it"}
        </Send>
        {entry.sending && (
          <Waiting
            words={`Applying it to ${version.data.name} ${version.data.version}, whole or not at all`}
          />
        )}
      </Form>
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
