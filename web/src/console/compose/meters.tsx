import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { meter as ofMeter, STALE } from "../../api/queries/compose";
import { Several } from "../../kit/choose";
import { Button, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Choice, Choices, Line, Own } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { plural } from "../../kit/format";
import { Page } from "../frame";
import { useOpened } from "../lately";
import { ListPage, useList } from "../list";
import { type Filter, Preview } from "./meter-preview";
import { Standing } from "./meter-standing";
import { ChooseOperations, useAllOperations } from "./operations";

type View = Console["MeterView"];

export function Meters() {
  const navigate = useNavigate();
  const list = useList("/meters", (query) => api.get("/meters", { params: { query } }));
  return (
    <ListPage
      title="Meters"
      sub="What counts: a meter turns served calls into units."
      list={list}
      reading="Reading the meters"
      empty="Meters belong here: which operations and which outcomes count. Make the first one."
      id={(row) => row.id}
      address={(m) => `/compose/meters/${m.id}`}
      actions={
        <Button main onClick={() => navigate("/compose/meters/new")}>
          Make a new meter
        </Button>
      }
      columns={[
        {
          head: "Meter",
          cell: (m) => <span className="whitespace-nowrap">{m.name}</span>,
          sort: "name",
        },
        { head: "Counts", cell: inWords },
        {
          head: "Priced by",
          cell: (m) => m.priced_by.join(", ") || <span className="text-soft">no plan</span>,
        },
        {
          head: "State",
          cell: (m) => (m.state === "active" ? (m.sealed_at ? "sealed" : "open to change") : m.state),
          sort: "state",
        },
      ]}
    />
  );
}

const MEASURES = {
  calls: "1 for each served call",
  bytes_out: "the megabytes of each response",
  bytes_in: "the megabytes of each request",
  reported: "the number that a response header reports",
} as const;

const OUTCOMES = [
  ["2xx", "answered well (2xx)"],
  ["3xx", "redirected (3xx)"],
  ["4xx", "the caller's mistake (4xx)"],
  ["5xx", "the back end's failure (5xx)"],
] as const;

const ENVIRONMENTS = [
  ["live", "live"],
  ["sandbox", "sandbox"],
] as const;

const CREDENTIALS = [
  ["key", "an API key"],
  ["basic", "an id and secret"],
  ["client", "a token made here"],
  ["token", "a token of a trusted issuer"],
  ["certificate", "a client certificate"],
] as const;

function inWords(m: View): string {
  const measure = m.measure === "reported" ? `what ${m.header} says` : MEASURES[m.measure as "calls"];
  const outcome = m.outcomes.length ? ` answered ${m.outcomes.join(" or ")}` : "";
  return `${measure}${outcome}, on ${plural(m.operations.length, "operation")}`;
}

type Typed = Filter & { name: string };

const EMPTY: Typed = {
  name: "",
  operations: [],
  outcomes: ["2xx"],
  measure: "calls",
  environments: ["live"],
  credentials: [],
  header: "",
};

function typedOf(meter: View): Typed {
  return {
    name: meter.name,
    operations: meter.operations,
    outcomes: meter.outcomes,
    measure: meter.measure as Filter["measure"],
    environments: meter.environments as Filter["environments"],
    credentials: meter.credentials,
    header: meter.header ?? "",
  };
}

/** The header is told only where it is what counts. */
function sent<T extends Filter>(typed: T): T {
  return { ...typed, header: typed.measure === "reported" ? typed.header : null };
}

export function MeterPage() {
  const { id } = useParams();
  const fresh = id === "new";
  const navigate = useNavigate();
  const stale = useStale();
  const one = useQuery({ ...ofMeter(Number(id)), enabled: !fresh });
  const meter = one.data;
  useOpened(meter?.name);
  const entry = useEntry({
    start: EMPTY,
    kept: meter && typedOf(meter),
    send: (typed) =>
      meter
        ? api.put("/meters/{meter_id}", {
            params: { path: { meter_id: meter.id }, header: { "if-match": `"${meter.edition}"` } },
            body: sent(typed),
          })
        : api.post("/meters", { body: sent(typed) }),
    done: async (saved) => {
      await stale(STALE.meter);
      navigate(`/compose/meters/${saved.id}`, { replace: true });
    },
  });
  const { read } = useAllOperations();
  const { name, ...filter } = entry.form.watch();
  if (!fresh && !meter)
    return (
      <Page title="Meter">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the meter" />}
      </Page>
    );
  const sealed = Boolean(meter?.sealed_at);
  return (
    <Page
      title={meter?.name ?? "A new meter"}
      sub={
        meter ? <Standing meter={meter} /> : "Nothing is charged by it until a published plan speaks of it."
      }
      margin={<Preview filter={sent(filter)} meterId={meter?.id ?? null} />}
    >
      <Form of={entry} className="mt-5 max-w-[660px]">
        <Line name="name" label="Name" required />
        <fieldset disabled={sealed} className="contents">
          <div className="grid grid-cols-2 gap-x-6">
            <Choice
              name="measure"
              label="It counts"
              choices={Object.entries(MEASURES) as [Filter["measure"], string][]}
            />
            {filter.measure === "reported" && (
              <Line name="header" label="Header that reports it" required placeholder="X-Cells" />
            )}
          </div>
        </fieldset>
        <Own<string[]> name="outcomes">
          {({ value, onChange, error }) => (
            <Outcomes chosen={value} onChange={onChange} error={error} sealed={sealed} />
          )}
        </Own>
        <div className="grid grid-cols-2 gap-x-6">
          <Choices
            name="environments"
            label="made in"
            choices={ENVIRONMENTS}
            none="Choose at least one."
            disabled={sealed}
          />
          <Choices
            name="credentials"
            label="with"
            choices={CREDENTIALS}
            none="Any credential."
            disabled={sealed}
          />
        </div>
        <h2 className="mt-2 mb-1">on these operations</h2>
        <Own<number[]> name="operations">
          {({ value, onChange, error }) => (
            <ChooseOperations chosen={value} onChange={onChange} error={error} disabled={sealed} />
          )}
        </Own>
        <Send disabled={!read || filter.operations.length === 0}>
          {meter ? (sealed ? "Rename" : "Save") : "Make it"}
        </Send>
        {entry.sent && <span className="ml-3 text-soft">Saved.</span>}
        <Refused />
      </Form>
    </Page>
  );
}

/** The statuses that count, by class or singly. */
function Outcomes({
  chosen,
  onChange,
  error,
  sealed,
}: {
  chosen: string[];
  onChange: (outcomes: string[]) => void;
  error?: string;
  sealed: boolean;
}) {
  const others = chosen.filter((o) => !OUTCOMES.some(([known]) => known === o));
  return (
    <>
      <Several
        label="of calls that were"
        chosen={chosen}
        choices={[...OUTCOMES, ...others.map((o) => [o, o] as const)]}
        none="With none chosen, every outcome counts. Refused calls never do."
        disabled={sealed}
        error={error}
        onChange={(outcomes) => onChange(outcomes.sort())}
      />
      {!sealed && <OtherCode onAdd={(code) => onChange([...chosen, code].sort())} />}
    </>
  );
}

function OtherCode({ onAdd }: { onAdd: (code: string) => void }) {
  const [code, setCode] = useState("");
  return (
    <div className="-mt-2 mb-3 flex items-end gap-2 text-[13px] text-soft">
      <label>
        or by the code
        <input
          className="field w-16 text-ink"
          inputMode="numeric"
          placeholder="404"
          value={code}
          onChange={(e) => setCode(e.target.value)}
        />
      </label>
      <WordButton
        disabled={!/^[1-5]\d\d$/.test(code)}
        onClick={() => {
          onAdd(code);
          setCode("");
        }}
      >
        add
      </WordButton>
    </div>
  );
}
