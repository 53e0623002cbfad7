import { useQuery } from "@tanstack/react-query";
import type { Console } from "../../api/console";
import { groups as ofGroups } from "../../api/queries/admit";
import { metersToChoose } from "../../api/queries/compose";
import { Choose } from "../../kit/choose";
import { Refusal, WordButton } from "../../kit/controls";
import { Own } from "../../kit/fields";

type Route = NonNullable<Console["ProductIn"]["route"]>;
type Rule = Route["rules"][number];
type Step = Route["otherwise"];
type Agreement = Route["agreements"][number];

const STEPS: readonly (readonly [Step, string])[] = [
  ["reviewed", "reviewed"],
  ["reviewed twice", "reviewed by two people"],
  ["outside", "decided at the ticket desk"],
  ["open", "granted at once"],
];

const ROLES: readonly (readonly [Agreement["role"], string])[] = [
  ["finance", "Finance"],
  ["operations", "Operations"],
  ["product manager", "A product manager"],
];

const ANEW: Rule = {
  step: "reviewed twice",
  plans: [],
  groups: [],
  environment: null,
  meter: null,
  above: null,
};

/** How a product's requests are decided, as sentences of which each word is chosen in place. */
export function Access({ plans }: { plans: { id: number; name: string }[] }) {
  return (
    <Own<Route> name="route">
      {({ value, onChange, error }) => <Rules of={value} plans={plans} onChange={onChange} error={error} />}
    </Own>
  );
}

function Rules({
  of,
  plans,
  onChange,
  error,
}: {
  of: Route;
  plans: { id: number; name: string }[];
  onChange: (route: Route) => void;
  error?: string;
}) {
  const put = (place: number, change: Partial<Rule>) =>
    onChange({ ...of, rules: of.rules.map((rule, n) => (n === place ? { ...rule, ...change } : rule)) });
  const agrees = (place: number, change: Partial<Agreement>) =>
    onChange({ ...of, agreements: of.agreements.map((a, n) => (n === place ? { ...a, ...change } : a)) });
  const free = ROLES.filter(([role]) => of.agreements.every((a) => a.role !== role));
  const [next] = free;
  return (
    <fieldset className="mb-3">
      <legend className="text-[13px] text-soft">Who decides on requests</legend>
      {of.rules.map((rule, n) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a rule is its place
        <OneRule key={n} n={n + 1} of={rule} plans={plans} put={(change) => put(n, change)}>
          <WordButton onClick={() => onChange({ ...of, rules: of.rules.filter((_, at) => at !== n) })}>
            leave this rule out
          </WordButton>
        </OneRule>
      ))}
      <p className="flex flex-wrap items-baseline gap-x-2 py-1">
        {of.rules.length > 0 ? "All others are" : "Requests are"}
        <Choose
          quiet
          label={of.rules.length > 0 ? "All others are" : "Requests are"}
          value={of.otherwise}
          choices={STEPS}
          onChange={(otherwise) => onChange({ ...of, otherwise })}
        />
      </p>
      {of.agreements.map((agreement, n) => (
        <p key={agreement.role} className="flex flex-wrap items-baseline gap-x-2 py-1">
          <Choose
            quiet
            label={`Agreement ${n + 1}: who`}
            value={agreement.role}
            choices={ROLES.filter(
              ([role]) => role === agreement.role || free.some(([other]) => other === role),
            )}
            onChange={(role) => agrees(n, { role })}
          />
          must agree as well, where a month is expected to be charged more than
          <input
            className="field w-24 text-right"
            inputMode="decimal"
            aria-label={`Agreement ${n + 1}: above how much`}
            placeholder="anything"
            value={String(agreement.above ?? "")}
            onChange={(e) => agrees(n, { above: e.target.value.trim() || null })}
          />
          <WordButton
            onClick={() => onChange({ ...of, agreements: of.agreements.filter((_, at) => at !== n) })}
          >
            not any more
          </WordButton>
        </p>
      ))}
      <p className="flex gap-4 pt-1 text-[13px]">
        <WordButton onClick={() => onChange({ ...of, rules: [...of.rules, ANEW] })}>
          decide some requests otherwise
        </WordButton>
        {next && (
          <WordButton
            onClick={() =>
              onChange({ ...of, agreements: [...of.agreements, { role: next[0], above: null }] })
            }
          >
            have somebody agree as well
          </WordButton>
        )}
      </p>
      <p className="text-[12px] text-soft">
        The first rule that fits decides. Requests under way stay as they are.
      </p>
      {error && <Refusal>{error}</Refusal>}
    </fieldset>
  );
}

/** “Requests for Schooner, by consumers of Port authorities, …, are reviewed by two people.” */
function OneRule({
  n,
  of,
  plans,
  put,
  children,
}: {
  n: number;
  of: Rule;
  plans: { id: number; name: string }[];
  put: (change: Partial<Rule>) => void;
  children: React.ReactNode;
}) {
  const groups = useQuery(ofGroups()).data ?? [];
  const meters = useQuery(metersToChoose()).data?.rows ?? [];
  const one = (ids: readonly number[]) => (ids.length > 1 ? ids.join(",") : String(ids[0] ?? ""));
  const ids = (value: string) => (value ? value.split(",").map(Number) : []);
  const some = (all: { id: number; name: string }[], chosen: readonly number[], any: string) => [
    ["", any] as const,
    ...all.map((each) => [String(each.id), each.name] as const),
    ...(chosen.length > 1
      ? [
          [
            one(chosen),
            all
              .filter((a) => chosen.includes(a.id))
              .map((a) => a.name)
              .join(" or "),
          ] as const,
        ]
      : []),
  ];
  return (
    <p className="flex flex-wrap items-baseline gap-x-2 border-b border-line-soft py-1.5">
      Requests for
      <Choose
        quiet
        label={`Rule ${n}: for the plan`}
        value={one(of.plans)}
        choices={some(plans, of.plans, "any plan")}
        onChange={(value) => put({ plans: ids(value) })}
      />
      by
      <Choose
        quiet
        label={`Rule ${n}: by consumers of`}
        value={one(of.groups)}
        choices={some(groups, of.groups, "anybody")}
        onChange={(value) => put({ groups: ids(value) })}
      />
      for
      <Choose
        quiet
        label={`Rule ${n}: for applications`}
        value={of.environment ?? ""}
        choices={[
          ["", "any application"],
          ["sandbox", "applications for the sandbox alone"],
          ["live", "live applications"],
        ]}
        onChange={(value) => put({ environment: (value || null) as Rule["environment"] })}
      />
      that expect
      <Choose
        quiet
        label={`Rule ${n}: that expect of`}
        value={of.meter ?? ""}
        choices={[
          ["", "any volume"],
          ...meters.map((m) => [m.key, `more ${m.name.toLowerCase()} a month than`] as const),
        ]}
        onChange={(value) =>
          put(value ? { meter: value, above: of.above ?? "0" } : { meter: null, above: null })
        }
      />
      {of.meter && (
        <input
          className="field w-28 text-right"
          inputMode="decimal"
          aria-label={`Rule ${n}: more than`}
          value={String(of.above ?? "")}
          onChange={(e) => put({ above: e.target.value })}
        />
      )}
      are
      <Choose
        quiet
        label={`Rule ${n}: are`}
        value={of.step}
        choices={STEPS}
        onChange={(step) => put({ step })}
      />
      {children}
    </p>
  );
}
