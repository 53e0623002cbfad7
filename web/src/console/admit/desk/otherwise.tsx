import type { Console } from "../../../api/console";
import { Choose } from "../../../kit/choose";
import { Dialog } from "../../../kit/controls";
import { Choice, digits, Line, Own } from "../../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../../kit/form";
import { LIMIT_FIELDS } from "../limit-fields";

type Whole = Console["RequestWithBackground"];
type Grant = NonNullable<Console["DecisionIn"]["grant"]>;
type Limit = Record<string, unknown>;

/** Granting another plan, free days at first, or a limit of its own. */
export function Otherwise({
  of: { request: r, background: b },
  verb,
  send,
  onClose,
}: {
  of: Whole;
  verb: string;
  send: (grant: Grant) => Promise<unknown>;
  onClose: () => void;
}) {
  const kept = b.grant.override;
  const entry = useEntry({
    start: {
      grant: {
        plan_id: String(b.grant.plan_id ?? r.plan_id),
        trial_days: String(b.grant.trial_days ?? ""),
        override: { limit: (kept?.limit ?? {}) as Limit, until: kept?.until ?? "" },
      },
      name: String((kept?.limit as Limit | undefined)?.name ?? ""),
    },
    send: ({ grant, name }) =>
      send({
        plan_id: Number(grant.plan_id) === r.plan_id ? null : Number(grant.plan_id),
        trial_days: grant.trial_days ? Number(grant.trial_days) : null,
        override: name ? grant.override : null,
      }),
    done: onClose,
  });
  const { grant, name } = entry.form.watch();
  const limits = (b.plans.find((p) => String(p.id) === grant.plan_id)?.limits ?? []) as Limit[];
  const limit = grant.override.limit;
  return (
    <Dialog open onClose={onClose} title="Grant otherwise than asked">
      <Form of={entry}>
        <Choice
          name="grant.plan_id"
          label="The plan"
          choices={b.plans.map(
            (p) => [String(p.id), p.id === r.plan_id ? `${p.name}, as asked` : p.name] as const,
          )}
        />
        {!r.moves_from && (
          <Line
            name="grant.trial_days"
            label="Free for the first so many days (none, where it stays empty)"
            inputMode="numeric"
            kept={(text) => text.replace(/\D/g, "")}
          />
        )}
        <Own<string> name="name">
          {({ onChange, ...field }) => (
            <Choose
              {...field}
              label="A limit of its own in place of the plan's"
              choices={[["", "none"], ...limits.map((l) => [String(l.name), String(l.name)] as const)]}
              onChange={(next) => {
                onChange(next);
                entry.form.setValue("grant.override.limit", limits.find((l) => l.name === next) ?? {});
              }}
            />
          )}
        </Own>
        {name && (
          <>
            <div className="grid grid-cols-3 gap-x-6">
              {LIMIT_FIELDS.filter(([field]) => field in limit).map(([field, label]) => (
                <Line
                  key={name + field}
                  name={`grant.override.limit.${field}`}
                  label={label}
                  inputMode="numeric"
                  required
                  kept={digits}
                />
              ))}
            </div>
            <Line name="grant.override.until" label="Until the end of" type="date" required />
          </>
        )}
        <Ends onLeave={onClose}>
          <Send disabled={Boolean(name) && !grant.override.until}>{verb}</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
