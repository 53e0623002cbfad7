import { useState } from "react";
import { Button, Dialog, WordButton } from "../../kit/controls";
import { count } from "../../kit/format";
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
  const [tiers, setTiers] = useState(price.tiers);
  const set = (n: number, part: Partial<Tier>) =>
    setTiers(tiers.map((tier, i) => (i === n ? { ...tier, ...part } : tier)));
  const trouble = wrong(tiers);
  const split = (n: number) => {
    const from = Number(tiers[n - 1]?.up_to ?? 0);
    const to = tiers[n]?.up_to;
    const middle =
      to === null || to === undefined ? (from ? from * 2 : 1000) : Math.round((from + Number(to)) / 2);
    const tier = tiers[n];
    if (tier) setTiers([...tiers.slice(0, n), { ...tier, up_to: String(middle) }, ...tiers.slice(n)]);
  };
  return (
    <Dialog open wide onClose={onClose} title={title}>
      <p className="mb-3 text-soft">
        {price.model === "graduated"
          ? "Each step prices the units that lie in it."
          : "The step that is reached prices all units."}{" "}
        Steps count from behind the {count(price.included)} included.
      </p>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (!trouble) onSave({ ...price, tiers });
        }}
      >
        <table className="plain-table">
          <thead>
            <tr>
              <th>From</th>
              <th>Up to</th>
              <th>{currency} each</th>
              <th>{currency} once</th>
              <th>
                <span className="sr-only">Change the steps</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {tiers.map((tier, n) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a step is its place
              <tr key={n}>
                <td className="whitespace-nowrap text-soft">above {count(tiers[n - 1]?.up_to ?? 0)}</td>
                <td>
                  {tier.up_to === null ? (
                    <span className="text-soft">without end</span>
                  ) : (
                    <Figure
                      label={`Step ${n + 1} up to`}
                      value={tier.up_to}
                      onChange={(up_to) => set(n, { up_to })}
                    />
                  )}
                </td>
                <td>
                  <Figure
                    label={`Step ${n + 1} each`}
                    value={tier.unit}
                    onChange={(unit) => set(n, { unit })}
                  />
                </td>
                <td>
                  <Figure
                    label={`Step ${n + 1} once`}
                    value={tier.flat}
                    onChange={(flat) => set(n, { flat })}
                  />
                </td>
                <td className="whitespace-nowrap">
                  <WordButton onClick={() => split(n)}>split</WordButton>{" "}
                  {tiers.length > 1 && tier.up_to !== null && (
                    <WordButton onClick={() => setTiers(tiers.filter((_, i) => i !== n))}>join</WordButton>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <p role="alert" className="mt-2 min-h-[1.5em] text-madder">
          {trouble}
        </p>
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Leave it</Button>
          <Button main type="submit" disabled={Boolean(trouble)}>
            Keep these steps
          </Button>
        </div>
      </form>
    </Dialog>
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
