import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { limitsOf, overrides, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { me } from "../../api/queries/house";
import { Choose } from "../../kit/choose";
import { Dialog, Trouble, WordButton } from "../../kit/controls";
import { digits, Line, Own } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { dayAndYear, untilWhen } from "../../kit/format";
import { isOne } from "../roles";
import { LIMIT_FIELDS } from "./limit-fields";

type Consumer = Console["ConsumerView"];
type Held = Console["HeldLimit"];

/** Limits of single subscriptions in place of their plan's, with why and until when. */
export function Overrides({ consumer }: { consumer: Consumer }) {
  const stale = useStale();
  const id = consumer.line.id;
  const may = isOne(useQuery(me()).data?.roles, ["product manager", "operations"]);
  const list = useQuery(overrides(id));
  const [adding, setAdding] = useState(false);
  const lift = useMutation({
    mutationFn: (override: number) =>
      api.delete("/overrides/{override_id}", { params: { path: { override_id: override } } }),
    onSettled: () => stale(STALE.override),
  });
  return (
    <section className="mt-6">
      <h2 className="flex items-baseline justify-between border-b border-line pb-1">
        Limits of its own
        {may && (
          <span className="font-sans">
            <WordButton onClick={() => setAdding(true)}>override a limit</WordButton>
          </span>
        )}
      </h2>
      <Trouble error={list.error ?? lift.error} />
      {list.data?.length === 0 && <p className="py-2 text-soft">None; its plans' limits hold as they are.</p>}
      {list.data?.map((o) => (
        <div
          key={o.id}
          className={`border-b border-line-soft py-2.5 ${o.state === "in force" ? "" : "text-soft"}`}
        >
          {o.application} on {o.plan}: {o.name} is <span className="text-brass">{o.sentence}</span>
          {o.instead_of && <span className="text-soft"> instead of {o.instead_of}</span>}
          <div className="text-[13px] text-soft">
            “{o.reason}” {o.made_by}, {dayAndYear(o.made_at)};{" "}
            {o.state === "in force" ? `until ${untilWhen(o.ends_at)}` : o.state}
            {may && o.state === "in force" && (
              <>
                {" "}
                · <WordButton onClick={() => lift.mutate(o.id)}>lift it</WordButton>
              </>
            )}
          </div>
        </div>
      ))}
      {adding && (
        <Override
          consumer={id}
          onClose={() => setAdding(false)}
          onDone={() => {
            setAdding(false);
            stale(STALE.override);
          }}
        />
      )}
    </section>
  );
}

type AskedFor = { consumer: number; onClose: () => void; onDone: () => void };

function Override({ consumer, onClose, onDone }: AskedFor) {
  const held = useQuery(limitsOf(consumer));
  return (
    <Dialog open onClose={onClose} title="Override a limit">
      {held.data?.length === 0 && <p className="text-soft">No subscription of this consumer has a limit.</p>}
      {held.data?.[0] && (
        <OverrideForm all={held.data} first={held.data[0]} onClose={onClose} onDone={onDone} />
      )}
    </Dialog>
  );
}

function OverrideForm({
  all,
  first,
  onClose,
  onDone,
}: Omit<AskedFor, "consumer"> & { all: Held[]; first: Held }) {
  const entry = useEntry({
    start: { place: "0", limit: first.limit as Record<string, unknown>, reason: "", until: "" },
    send: ({ place, ...body }) =>
      api.post("/subscriptions/{subscription_id}/overrides", {
        params: { path: { subscription_id: (all[Number(place)] ?? first).subscription_id } },
        body,
      }),
    done: onDone,
  });
  const { place, limit, until } = entry.form.watch();
  return (
    <Form of={entry}>
      <Own<string> name="place">
        {({ onChange, ...field }) => (
          <Choose
            {...field}
            label="Which limit"
            choices={all.map((h, n) => [String(n), `${h.application} · ${h.name}: ${h.sentence}`] as const)}
            onChange={(next) => {
              onChange(next);
              entry.form.setValue("limit", all[Number(next)]?.limit ?? {});
            }}
          />
        )}
      </Own>
      <div className="grid grid-cols-3 gap-x-6">
        {LIMIT_FIELDS.filter(([name]) => name in limit).map(([name, label]) => (
          <Line
            key={place + name}
            name={`limit.${name}`}
            label={label}
            inputMode="numeric"
            required
            kept={digits}
          />
        ))}
      </div>
      <Line name="reason" label="Why, for the record" required />
      <Line name="until" label="Until the end of" type="date" required />
      <p className="text-[13px] text-soft">
        It holds within a second. The consumer's members are told by mail.
      </p>
      <Ends onLeave={onClose}>
        <Send disabled={!until}>Override it for {(all[Number(place)] ?? first).application}</Send>
      </Ends>
    </Form>
  );
}
