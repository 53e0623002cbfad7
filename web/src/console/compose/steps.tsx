import { Dialog, WordButton } from "../../kit/controls";
import { Own } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { count } from "../../kit/format";
import { Table } from "../../kit/table";
import { typed } from "../../kit/terms";

type Tier = { up_to: string | null; unit: string; flat: string };
type Price = { model: "graduated" | "volume"; tiers: Tier[]; included: string };

/** The steps of a price as a table. A step begins where the one above ends, so there are no gaps or overlaps. */
export function Steps({
  price,
  title,
  currency,
  onClose,
  onSave,
}: {
  price: Price;
  title: string;
  currency: string;
  onClose: () => void;
  onSave: (price: Price) => void;
}) {
  const entry = useEntry({ start: price, send: async (typed) => onSave(typed) });
  const trouble = wrong(entry.form.watch().tiers);
  return (
    <Dialog open wide onClose={onClose} title={title}>
      <p className="mb-3 text-soft">
        {price.model === "graduated"
          ? "Each step prices the units that lie in it."
          : "The step that is reached prices all units."}{" "}
        Steps count from behind the {count(price.included)} included.
      </p>
      <Form of={entry}>
        <Own<Tier[]> name="tiers">
          {({ value, onChange }) => <StepTable tiers={value} onChange={onChange} currency={currency} />}
        </Own>
        <p role="alert" className="mt-2 min-h-[1.5em] text-madder">
          {trouble}
        </p>
        <Ends onLeave={onClose}>
          <Send disabled={Boolean(trouble)}>Keep these steps</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function StepTable({
  tiers,
  onChange,
  currency,
}: {
  tiers: Tier[];
  onChange: (tiers: Tier[]) => void;
  currency: string;
}) {
  const set = (n: number, part: Partial<Tier>) =>
    onChange(tiers.map((tier, i) => (i === n ? { ...tier, ...part } : tier)));
  const split = (n: number) => {
    const from = Number(tiers[n - 1]?.up_to ?? 0);
    const to = tiers[n]?.up_to;
    const middle =
      to === null || to === undefined ? (from ? from * 2 : 1000) : Math.round((from + Number(to)) / 2);
    const tier = tiers[n];
    if (tier) onChange([...tiers.slice(0, n), { ...tier, up_to: String(middle) }, ...tiers.slice(n)]);
  };
  return (
    <Table
      rows={tiers}
      id={(_, n) => n}
      columns={[
        {
          head: "From",
          look: "whitespace-nowrap text-soft",
          cell: (_, n) => `above ${count(tiers[n - 1]?.up_to ?? 0)}`,
        },
        {
          head: "Up to",
          cell: (tier, n) =>
            tier.up_to === null ? (
              <span className="text-soft">without end</span>
            ) : (
              <Figure
                label={`Step ${n + 1} up to`}
                value={tier.up_to}
                onChange={(up_to) => set(n, { up_to })}
              />
            ),
        },
        {
          head: `${currency} each`,
          cell: (tier, n) => (
            <Figure label={`Step ${n + 1} each`} value={tier.unit} onChange={(unit) => set(n, { unit })} />
          ),
        },
        {
          head: `${currency} once`,
          cell: (tier, n) => (
            <Figure label={`Step ${n + 1} once`} value={tier.flat} onChange={(flat) => set(n, { flat })} />
          ),
        },
        {
          head: "Change the steps",
          quiet: true,
          look: "whitespace-nowrap",
          cell: (tier, n) => (
            <>
              <WordButton onClick={() => split(n)}>split</WordButton>{" "}
              {tiers.length > 1 && tier.up_to !== null && (
                <WordButton onClick={() => onChange(tiers.filter((_, i) => i !== n))}>join</WordButton>
              )}
            </>
          ),
        },
      ]}
    />
  );
}

function Figure({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <input
      aria-label={label}
      inputMode="decimal"
      className="field w-28"
      value={value}
      onChange={(e) => onChange(String(typed(e.target.value, "decimal")))}
    />
  );
}

/** What is wrong with the steps, in words; nothing where they can be kept. */
function wrong(tiers: Tier[]): string {
  for (const [n, tier] of tiers.entries()) {
    for (const value of [tier.up_to ?? "1", tier.unit, tier.flat])
      if (!/^\d+(\.\d+)?$/.test(value)) return `Step ${n + 1} has something that is no number.`;
    const before = Number(tiers[n - 1]?.up_to ?? 0);
    if (tier.up_to !== null && Number(tier.up_to) <= before)
      return `Step ${n + 1} must end above ${count(before)}, where it begins.`;
  }
  return "";
}
