import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { benchOffers } from "../../api/queries/serve";
import { useAddress } from "../../kit/address";
import { Button, Field, Trouble, Waiting, WordButton } from "../../kit/controls";
import { count } from "../../kit/format";
import { ReceiptLadder } from "../../kit/receipt";
import { ConsumerChoice } from "../admit/consumer-choice";
import { Aside, Page, Pair } from "../frame";
import { asCase, type Fired, type Run, useRuns, type Wanted } from "./bench-run";
import { Strip } from "./bench-strip";

const word = "border-b border-dashed border-kelp/60 bg-transparent font-semibold text-ink";

/** The bench, live: fire test calls at a plan and see each be served, held or refused. */
export function Bench() {
  const { search, change } = useAddress();
  const offers = useQuery(benchOffers());
  const { runs, error, fire, stop } = useRuns();
  const [chosen, setChosen] = useState<{ run: number; call: Fired } | null>(null);
  const [list, setList] = useState<string | null>(null);
  const text = (name: string, start: string) => search.get(name) ?? start;
  const all = offers.data ?? [];
  const offer = all.find((o) => String(o.plan_id) === search.get("plan")) ?? all[0];
  if (!offer)
    return (
      <Page title="The bench">
        <Trouble error={offers.error} />
        {offers.isPending ? (
          <Waiting words="Reading the plans" />
        ) : (
          <p className="mt-4 text-soft">
            Test calls are fired at a plan here.{" "}
            <Link className="figure-link" to="/compose/products">
              Make a product with a plan
            </Link>{" "}
            first.
          </p>
        )}
      </Page>
    );
  const terms = search.get("terms") === "live" || !offer.drafted ? "live" : "draft";
  const operation =
    offer.operations.find((o) => String(o.id) === search.get("operation")) ?? offer.operations[0];
  const running = runs[0]?.running ?? false;
  const wanted: Wanted = {
    plan_id: offer.plan_id,
    terms: offer.live ? terms : "draft",
    operation_id: operation?.id ?? 0,
    calls: Number(text("calls", "30")),
    per_second: Number(text("rate", "12")),
    keys: Number(text("keys", "2")),
    list: list ?? "",
    answered_by: search.get("by") === "sandbox" && operation?.sandbox ? "sandbox" : "stand-in",
  };
  const number = (name: string, start: string, label: string) => (
    <input
      aria-label={label}
      inputMode="decimal"
      className={`${word} h-6 text-center leading-5`}
      style={{ width: `${Math.max(2, text(name, start).length) + 1}ch` }}
      value={text(name, start)}
      onChange={(e) => change({ [name]: e.target.value.replace(/[^\d.]/g, "") })}
    />
  );
  return (
    <Page
      title="The bench"
      sub="Test calls through the real limiter, in real time, with counts of their own. Nothing here is counted or charged."
      margin={
        <BenchMargin
          run={runs.find((r) => r.number === chosen?.run) ?? runs[0]}
          chosen={chosen?.call ?? null}
        />
      }
    >
      <form
        className="mt-4 leading-8"
        onSubmit={(e) => {
          e.preventDefault();
          setChosen(null);
          fire(wanted);
        }}
      >
        {list === null ? (
          <>
            {number("calls", "30", "Calls")} calls, {number("rate", "12", "Calls a second")} a second, from{" "}
            {number("keys", "2", "Keys")} keys,{" "}
          </>
        ) : (
          <>The calls listed below, </>
        )}
        at{" "}
        <select
          aria-label="Plan"
          className={word}
          value={offer.plan_id}
          onChange={(e) => change({ plan: e.target.value, operation: null })}
        >
          {all.map((o) => (
            <option key={o.plan_id} value={o.plan_id}>
              {o.label}
            </option>
          ))}
        </select>{" "}
        <select
          aria-label="Terms"
          className={word}
          value={wanted.terms}
          onChange={(e) => change({ terms: e.target.value })}
        >
          {offer.drafted && <option value="draft">as drafted</option>}
          {offer.live && <option value="live">as published</option>}
        </select>
        , to{" "}
        <select
          aria-label="Operation"
          className={`${word} max-w-[340px]`}
          value={operation?.id}
          onChange={(e) => change({ operation: e.target.value })}
        >
          {offer.operations.map((o) => (
            <option key={o.id} value={o.id}>
              {o.label}
            </option>
          ))}
        </select>
        , answered by{" "}
        <select
          aria-label="Answered by"
          className={word}
          value={wanted.answered_by}
          onChange={(e) => change({ by: e.target.value })}
        >
          <option value="stand-in">a stand-in</option>
          {operation?.sandbox && <option value="sandbox">the sandbox</option>}
        </select>
        .
        <Lists list={list} onChange={setList} />
        <div className="mt-1 flex items-center gap-3 leading-6">
          {running ? (
            <Button main onClick={stop}>
              Stop
            </Button>
          ) : (
            <Button main type="submit">
              {runs.length ? "Fire again" : "Fire"}
            </Button>
          )}
          <Link className="figure-link text-[13px]" to={`/compose/products/${offer.product_id}`}>
            change the draft
          </Link>
        </div>
      </form>
      <Trouble error={error} />
      {runs.map((run) => (
        <Strip
          key={run.number}
          run={run}
          chosen={chosen?.run === run.number ? chosen.call.n : null}
          onChoose={(call) => setChosen({ run: run.number, call })}
        />
      ))}
      {runs.length === 0 && (
        <p className="mt-6 max-w-[60ch] text-soft">
          Say how many calls come, how fast and from how many keys, and fire. Each call appears on a strip
          over time; under it runs what every limit has left. Runs stay one above the other, to be compared.
        </p>
      )}
    </Page>
  );
}

/** Calls as a list instead of a pattern: pasted, or as somebody really made them. */
function Lists({ list, onChange }: { list: string | null; onChange: (list: string | null) => void }) {
  const [trouble, setTrouble] = useState<unknown>(null);
  const take = async (consumer: number) => {
    setTrouble(null);
    try {
      const answer = await fetch(`/api/v1/bench/recorded?consumer_id=${consumer}`);
      onChange(await answer.text());
    } catch (failure) {
      setTrouble(failure);
    }
  };
  if (list === null)
    return (
      <div className="text-[13px] leading-6">
        <WordButton onClick={() => onChange("0 1\n40 1\n80 2\n")}>or fire a list of calls</WordButton>
      </div>
    );
  return (
    <div className="mt-1 max-w-[420px] leading-6">
      <Field
        area
        label="One call a line: ms after the start, then the key"
        value={list}
        onChange={onChange}
      />
      <span className="text-[13px] text-soft">
        as it was called by{" "}
        <ConsumerChoice
          label="As called by"
          nobody="a consumer"
          className={`${word} w-44`}
          chosen={null}
          onChoose={(c) => c && take(c.id)}
        />
      </span>{" "}
      · <WordButton onClick={() => onChange(null)}>back to a pattern</WordButton>
      <Trouble error={trouble} />
    </div>
  );
}

function BenchMargin({ run, chosen }: { run: Run | undefined; chosen: Fired | null }) {
  if (!run)
    return (
      <Aside title="What a run tells">
        <p className="text-soft">
          Each call opens here to its receipt: every limit in order, with its count.
        </p>
      </Aside>
    );
  if (chosen)
    return (
      <Aside title={`Call ${chosen.n + 1} of run ${run.number}`}>
        <ReceiptLadder of={{ ...chosen, call: { verdict: chosen.verdict } }} />
      </Aside>
    );
  const by = new Map<string, number>();
  for (const call of run.calls) if (call.by) by.set(call.by, (by.get(call.by) ?? 0) + 1);
  const held = run.calls.filter((c) => c.verdict === "held");
  const longest = Math.max(0, ...held.map((c) => c.wait_ms));
  return (
    <>
      <Aside title={`Run ${run.number} so far`}>
        {[...by].map(([name, n]) => (
          <Pair key={name} name={`Refused by ${name}`}>
            {count(n)}
          </Pair>
        ))}
        {held.length > 0 && <Pair name="Longest wait">{count(Math.round(longest))} ms</Pair>}
        {by.size === 0 && held.length === 0 && <p className="text-soft">Nothing was held or refused.</p>}
        <p className="mt-1 text-soft">Choose a call for its receipt.</p>
      </Aside>
      <Aside title="What holds">
        {run.begun.limits.map((limit) => (
          <p key={limit.name} className="py-[3px]">
            {limit.name}: <span className="text-soft">{limit.sentence}</span>
          </p>
        ))}
        {run.begun.limits.length === 0 && <p className="text-soft">No limit applies to this operation.</p>}
      </Aside>
      <Aside title="Keep it">
        <a
          className="figure-link"
          download={`bench-run-${run.number}.json`}
          href={`data:application/json;charset=utf-8,${encodeURIComponent(asCase(run))}`}
        >
          Save as a case for ./calm decide
        </a>
      </Aside>
    </>
  );
}
