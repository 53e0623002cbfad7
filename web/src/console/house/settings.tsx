import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../api/console";
import { countries } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { houseSettings, me, STALE } from "../../api/queries/house";
import { today } from "../../api/queries/observe";
import { useAddress } from "../../kit/address";
import { Trouble, Waiting } from "../../kit/controls";
import { Choice, Choices, digits, Line, Tick } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { date, plural } from "../../kit/format";
import { Page } from "../frame";
import { isOne } from "../roles";

type Settings = Console["SettingsView"];

const DAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"].map(
  (name, day) => [day, name] as const,
);
const LABELS = {
  name: "Name",
  address: "Postal address",
  country: "Country",
  tax_number: "Tax number",
  time_zone: "Time zone",
  currency: "Currency",
  tax_percent: "Tax, in percent",
  tax_changes: "Other percents of tax, from a day on",
  payment_days: "Days to pay",
  mail_from: "Letters come from",
  working_days: "Working days",
  target_days: "Working days to answer a request",
  invoice_prefix: "Numbers of invoices begin with",
  credit_note_prefix: "Numbers of credit notes begin with",
  zero_invoices: "Issue invoices of nothing, too",
  adjustment_limit: "Adjustments take a second person above",
  review_percent: "Percent from which on a change is out of the ordinary",
  charge_after_days: "Days after its end that a month is drafted by itself",
  reminders_after_days: "Days past due on which an invoice is reminded of",
  pause_after_days: "Days past due after which calls are paused",
  tries_after_days: "Days past due on which a card is charged",
  write_off_limit: "Writing off takes a second person above",
  iban: "IBAN",
  bic: "BIC",
  body_days: "Days that bodies of sandbox calls are kept",
  call_months: "Months that calls are kept",
};
type Name = keyof typeof LABELS;

/** How the office works: each setting with what it changes and from when, and which stay as they are. */
export function SettingsPage() {
  const settings = useQuery(houseSettings());
  const owner = isOne(useQuery(me()).data?.roles, ["owner"]);
  const walk = useQuery(today()).data?.first_steps ?? [];
  return (
    <Page title="Settings" sub="How the office works: what each setting changes, and from when.">
      {settings.data?.settled && walk.length > 0 && (
        <p className="mt-2">
          From here it is {plural(walk.filter((step) => !step.done).length, "step")} to the first served call.{" "}
          <Link className="figure-link" to="/">
            On to the next step
          </Link>
        </p>
      )}
      <Trouble error={settings.error} />
      {settings.isPending && <Waiting words="Reading the settings" />}
      {settings.data && (owner ? <Change of={settings.data} /> : <Read of={settings.data} />)}
    </Page>
  );
}

/** The settings for those who do not change them. */
function Read({ of }: { of: Settings }) {
  return (
    <>
      <dl className="mt-4 max-w-[720px]">
        {of.settings.map(({ name, effect, locked }) => (
          <div key={name} className="grid grid-cols-[200px_1fr] gap-x-6 border-b border-line py-2">
            <dt className="text-soft">{LABELS[name as Name]}</dt>
            <dd>
              <span className="whitespace-pre-line">{said(of, name as Name)}</span>
              <div className="text-[13px] text-soft">{locked || effect}</div>
            </dd>
          </div>
        ))}
      </dl>
      <p className="mt-3 text-[13px] text-soft">Owners of the house change them.</p>
    </>
  );
}

function said(of: Settings, name: Name): string {
  if (name === "working_days")
    return DAYS.filter(([day]) => of.working_days.includes(day))
      .map(([, words]) => words)
      .join(", ");
  if (name === "tax_changes") return asLines(of.tax_changes) || "none";
  if (name === "zero_invoices") return of.zero_invoices ? "yes" : "no";
  if (name === "charge_after_days" || name === "pause_after_days")
    return of[name] === null ? "never" : String(of[name]);
  if (name === "reminders_after_days" || name === "tries_after_days") return of[name].join(", ") || "never";
  if (name === "call_months") return of.call_months ? String(of.call_months) : "for ever";
  return String(of[name] || "none");
}

const figures = (text: string) =>
  text
    .split(/[\s,;]+/)
    .filter(Boolean)
    .map(digits);

const figureOrNone = (text: string) => (text.trim() ? digits(text) : null);

type Changes = Settings["tax_changes"];

const asLines = (changes: Changes) => changes.map((each) => `${each.since}: ${each.percent}`).join("\n");

const fromLines = (text: string) =>
  text
    .split("\n")
    .filter((line) => line.trim())
    .map((line) => {
      const [since = "", percent = ""] = line.split(":");
      return { since: since.trim(), percent: percent.trim() };
    });

function Change({ of }: { of: Settings }) {
  const stale = useStale();
  const { search, change } = useAddress();
  const [edition, setEdition] = useState(of.edition);
  const { settings, edition: _, settled: __, calls_from: ___, ...values } = of;
  const known = Object.entries(useQuery(countries()).data ?? {}).sort(([, a], [, b]) => a.localeCompare(b));
  const entry = useEntry({
    start: {
      ...values,
      tax_changes: asLines(of.tax_changes),
      adjustment_limit: of.adjustment_limit ?? "",
      charge_after_days: of.charge_after_days === null ? "" : String(of.charge_after_days),
      reminders_after_days: of.reminders_after_days.join(", "),
      tries_after_days: of.tries_after_days.join(", "),
      pause_after_days: of.pause_after_days === null ? "" : String(of.pause_after_days),
      write_off_limit: of.write_off_limit ?? "",
    },
    send: ({
      tax_changes,
      adjustment_limit,
      charge_after_days,
      reminders_after_days,
      tries_after_days,
      pause_after_days,
      write_off_limit,
      ...rest
    }) =>
      api.put("/house/settings", {
        params: { header: { "if-match": `"${edition}"` } },
        body: {
          ...rest,
          tax_changes: fromLines(tax_changes),
          adjustment_limit: adjustment_limit.trim() || null,
          charge_after_days: figureOrNone(charge_after_days),
          reminders_after_days: figures(reminders_after_days),
          tries_after_days: figures(tries_after_days),
          pause_after_days: figureOrNone(pause_after_days),
          write_off_limit: write_off_limit.trim() || null,
        },
      }),
    done: async (kept) => {
      // Another currency or zone shows every page anew: that it was kept stays in the address.
      change({ kept: String(kept.edition) });
      setEdition(kept.edition);
      await stale(STALE.houseSettings);
    },
  });
  const about = Object.fromEntries(settings.map((setting) => [setting.name, setting]));
  const line = (name: Name, more: Partial<Parameters<typeof Line>[0]> = {}) => {
    const setting = about[name];
    if (setting?.locked)
      return (
        <div className="mb-3">
          <div className="text-[13px] text-soft">{LABELS[name]}</div>
          <div>{said(of, name)}</div>
          <div className="text-[13px] text-soft">{setting.locked}</div>
        </div>
      );
    return <Line name={name} label={LABELS[name]} hint={setting?.effect} required {...more} />;
  };
  const figure = (name: Name) => (
    <Line
      name={name}
      label={LABELS[name]}
      hint={about[name]?.effect}
      inputMode="numeric"
      required
      kept={digits}
    />
  );
  return (
    <Form of={entry} className="mt-4 max-w-[620px]">
      <h2 className="mb-2 font-serif text-[18px]">Who it is</h2>
      {line("name")}
      {line("address", { area: true, required: false })}
      <Choice name="country" label={LABELS.country} choices={[["", "not said"], ...known]} />
      {line("tax_number", { required: false })}
      {line("mail_from", { type: "email" })}
      <h2 className="mt-6 mb-2 font-serif text-[18px]">Charges</h2>
      {line("currency")}
      {line("tax_percent", { inputMode: "decimal" })}
      {line("tax_changes", {
        area: true,
        required: false,
        hint: `One a line, such as “2027-01-01: 24”. ${about.tax_changes?.effect}`,
      })}
      {figure("payment_days")}
      {line("invoice_prefix")}
      {line("credit_note_prefix")}
      {line("adjustment_limit", { required: false, inputMode: "decimal" })}
      {line("charge_after_days", { required: false, inputMode: "numeric" })}
      {figure("review_percent")}
      <Tick name="zero_invoices">
        {LABELS.zero_invoices}
        <span className="block text-[13px] text-soft">{about.zero_invoices?.effect}</span>
      </Tick>
      <h2 className="mt-6 mb-2 font-serif text-[18px]">What is not paid</h2>
      {line("tries_after_days", { required: false })}
      {line("reminders_after_days", { required: false })}
      {line("pause_after_days", { required: false, inputMode: "numeric" })}
      {line("write_off_limit", { required: false, inputMode: "decimal" })}
      <h2 className="mt-6 mb-2 font-serif text-[18px]">Bank account</h2>
      {line("iban", { required: false })}
      {line("bic", { required: false })}
      <h2 className="mt-6 mb-2 font-serif text-[18px]">Time</h2>
      {line("time_zone")}
      <Choices<number> name="working_days" label={LABELS.working_days} choices={DAYS} none="At least one." />
      <p className="mb-3 text-[13px] text-soft">{about.working_days?.effect}</p>
      {figure("target_days")}
      <h2 className="mt-6 mb-2 font-serif text-[18px]">What is kept</h2>
      {figure("body_days")}
      {figure("call_months")}
      {of.calls_from && (
        <p className="mb-3 text-[13px] text-soft">Calls before {date(of.calls_from)} were thrown away.</p>
      )}
      <Refused />
      <Send>Keep these settings</Send>
      {search.get("kept") === String(of.edition) && (
        <span role="status" className="ml-3 text-soft">
          Kept.
        </span>
      )}
    </Form>
  );
}
