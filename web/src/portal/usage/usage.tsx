import { useQuery } from "@tanstack/react-query";
import type { Portal } from "../../api/portal";
import { allowances, usage } from "../../api/queries/portal";
import { Trouble, Waiting, WordButton } from "../../kit/controls";
import { bytes, count, date, plural } from "../../kit/format";
import { AllowanceGauge } from "../../kit/gauge";
import { Verdict, type VerdictName } from "../../kit/verdict";
import { VerdictBars } from "../../kit/verdict-bars";
import { OwnAlerts } from "./alerts";
import { CallLog } from "./calls";
import { fileOf, NOTHING_FURTHER, STRETCHES, useChosen } from "./chosen";
import { Parts } from "./parts";
import { Refusals } from "./refusals";
import { Running } from "./running";

type Usage = Portal["UsageView"];

/** What one's calls came to, what they cost so far, how the allowances stand, and each call. */
export function UsagePage() {
  const { use } = useChosen();
  const query = useQuery(usage(use));
  const of = query.data;
  return (
    <>
      <h1>Usage</h1>
      <div className="mt-2 grid gap-x-10 gap-y-8 lg:grid-cols-[1fr_330px]">
        <div className="min-w-0">
          <Trouble error={query.error} />
          {query.isPending && <Waiting words="Adding up your calls" />}
          {of && <Figures of={of} />}
        </div>
        <div className="lg:border-l lg:border-(--portal-line) lg:pl-6">
          <Running />
          <Gauges />
          <OwnAlerts />
        </div>
      </div>
      <CallLog within={of} />
    </>
  );
}

function Figures({ of }: { of: Usage }) {
  const { change } = useChosen();
  const total = of.served + of.held + of.refused;
  return (
    <>
      <Sentence of={of} />
      <p className="mt-2 flex flex-wrap items-baseline gap-x-4">
        {(["served", "held", "refused"] as VerdictName[]).map((verdict) => (
          <button
            key={verdict}
            type="button"
            className="figure-link"
            onClick={() => change({ ...NOTHING_FURTHER, verdict })}
          >
            <Verdict of={verdict}>
              {count(of[verdict])} {verdict}
            </Verdict>
          </button>
        ))}
        <span className="text-soft">
          {plural(total, "call")} in all, {bytes(of.bytes_out)} answered
        </span>
      </p>
      <VerdictBars
        bars={of.days.map((d) => ({ at: d.day, ...d }))}
        name={date}
        of="Day"
        every={Math.ceil(of.days.length / 6)}
        says="Calls by day and verdict"
        open={(day) => {
          const found = of.days.find((d) => d.day === day);
          if (found)
            change({
              ...NOTHING_FURTHER,
              since_us: String(found.since_us),
              until_us: String(found.until_us),
            });
        }}
      />
      <div className="mt-5 grid gap-x-10 gap-y-6 md:grid-cols-2">
        <div className="min-w-0 md:col-span-2">
          <Parts name="operation" head="By operation" of={of.operations} />
        </div>
        <Parts name="application" head="By application" of={of.applications} />
        <Parts name="status" head="By status" of={of.statuses} />
        {of.keys.length > 0 && <Parts name="key" head="By key" of={of.keys} none="with a token" />}
      </div>
      {of.refusals.length > 0 && <Refusals of={of.refusals} />}
    </>
  );
}

const SELECT = "max-w-full border-b border-dashed border-(--portal-main) bg-transparent font-semibold";

/** Which calls are meant, as a sentence whose words are choices. */
function Sentence({ of }: { of: Usage }) {
  const { use, change } = useChosen();
  const chosen = Object.entries(STRETCHES).find(([, days]) => {
    const [since, until] = days();
    return since === of.since && until === of.until;
  })?.[0];
  const days = (since: string, until: string) => change({ ...NOTHING_FURTHER, since, until });
  const narrowed = [use.application, use.operation, use.key, use.status].some((n) => n !== undefined);
  return (
    <p className="flex flex-wrap items-baseline gap-x-1.5 gap-y-1 text-[16px]">
      Calls made
      <select
        aria-label="Environment"
        className={SELECT}
        value={use.environment ?? ""}
        onChange={(e) => change({ ...NOTHING_FURTHER, environment: e.target.value || null })}
      >
        <option value="">live and in the sandbox</option>
        <option value="live">live</option>
        <option value="sandbox">in the sandbox</option>
      </select>
      in
      <span>
        <select
          aria-label="Stretch"
          className={SELECT}
          value={chosen ?? "days"}
          onChange={(e) => {
            const [since, until] = STRETCHES[e.target.value as keyof typeof STRETCHES]?.() ?? [
              of.since,
              of.until,
            ];
            days(since, until);
          }}
        >
          {Object.keys(STRETCHES).map((name) => (
            <option key={name}>{name}</option>
          ))}
          {!chosen && <option value="days">the days</option>}
        </select>
        ,
      </span>
      from
      <input
        type="date"
        aria-label="First day"
        className={`${SELECT} text-[15px]`}
        value={of.since}
        max={of.until}
        onChange={(e) => e.target.value && days(e.target.value, of.until)}
      />
      to
      <input
        type="date"
        aria-label="Last day"
        className={`${SELECT} text-[15px]`}
        value={of.until}
        min={of.since}
        onChange={(e) => e.target.value && days(of.since, e.target.value)}
      />
      <span className="text-[13px] text-soft">
        {narrowed && (
          <>
            <WordButton
              onClick={() =>
                change({ ...NOTHING_FURTHER, application: null, operation: null, key: null, status: null })
              }
            >
              of all, not of what is chosen below
            </WordButton>{" "}
            ·{" "}
          </>
        )}
        as{" "}
        <a className="figure-link" href={fileOf("usage.csv", use)} download>
          CSV
        </a>
        ,{" "}
        <a className="figure-link" href={fileOf("usage", use)} download="usage.json">
          JSON
        </a>
      </span>
    </p>
  );
}

function Gauges() {
  const gauges = useQuery(allowances());
  return (
    <section aria-label="Allowances" className="mt-7">
      <h2 className="mb-2 text-[18px]">Allowances</h2>
      <Trouble error={gauges.error} />
      {gauges.isPending && <Waiting words="Reading your allowances" />}
      {gauges.data?.map((g) => (
        <div key={g.subscription_id + g.name} className="mb-4">
          <div className="mb-1 text-[14px]">
            <b className="font-semibold">{g.application}</b> on {g.product} · {g.plan}, {g.name}:{" "}
            <span className="text-soft">{g.sentence}</span>
          </div>
          <AllowanceGauge of={g} />
        </div>
      ))}
      {gauges.data?.length === 0 && (
        <p className="text-soft">No plan yet; once you are on one, its allowances stand here.</p>
      )}
    </section>
  );
}
