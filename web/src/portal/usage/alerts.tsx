import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Portal } from "../../api/portal";
import { useStale } from "../../api/queries/asking";
import { alerts, allowances, STALE } from "../../api/queries/portal";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Choice, Line } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { dayAndMinute } from "../../kit/format";
import { useMe } from "../me";

type Alerts = Portal["Alerts"];
type Gauge = Portal["Gauge"];
const MONEY = "money";

/** What one wants to be told of: how far allowances are used, and what the month comes to. */
export function OwnAlerts() {
  const me = useMe();
  const stale = useStale();
  const query = useQuery(alerts());
  const gauges = useQuery(allowances());
  const [adding, setAdding] = useState(false);
  const [hooking, setHooking] = useState(false);
  const takeAway = useMutation({
    mutationFn: (id: number) => api.delete("/alerts/{alert_id}", { params: { path: { alert_id: id } } }),
    onSuccess: () => stale(STALE.alert),
  });
  const may = me.may.includes("set alerts");
  const of = query.data;
  return (
    <section aria-label="Alerts" className="mt-7">
      <h2 className="mb-1 text-[18px]">Alerts</h2>
      <Trouble error={query.error ?? takeAway.error} />
      {query.isPending && <Waiting words="Reading your alerts" />}
      {of?.alerts.length === 0 && (
        <p className="text-[14px] text-soft">
          None yet. An alert is told once a month, or in each window of its allowance, when it is reached:
          here, and by mail.
        </p>
      )}
      <ul className="text-[14px]">
        {of?.alerts.map((alert) => (
          <li key={alert.id} className="border-b border-(--portal-line-soft) py-1.5">
            {alert.said}
            <span className="block text-[13px] text-soft">
              set by {alert.made_by};{" "}
              {alert.reached_at ? `reached ${dayAndMinute(alert.reached_at)}` : "not reached yet"}
              {may && (
                <>
                  {" · "}
                  <WordButton disabled={takeAway.isPending} onClick={() => takeAway.mutate(alert.id)}>
                    take it away
                  </WordButton>
                </>
              )}
            </span>
          </li>
        ))}
      </ul>
      {may && of && (
        <p className="mt-2 flex flex-wrap gap-x-4 text-[14px]">
          <WordButton disabled={!gauges.data} onClick={() => setAdding(true)}>
            set an alert
          </WordButton>
          <WordButton onClick={() => setHooking(true)}>
            {of.hook ? "their webhook" : "have them sent to a webhook, too"}
          </WordButton>
        </p>
      )}
      {adding && gauges.data && <Add gauges={gauges.data} onClose={() => setAdding(false)} />}
      {hooking && of && <Hook of={of} onClose={() => setHooking(false)} />}
    </section>
  );
}

function Add({ gauges, onClose }: { gauges: Gauge[]; onClose: () => void }) {
  const stale = useStale();
  const me = useMe();
  const entry = useEntry({
    start: { of: gauges.length > 0 ? "0" : MONEY, percent: "80", amount: "" },
    send: (typed) => {
      const gauge = gauges[Number(typed.of)];
      return api.post("/alerts", {
        body:
          typed.of === MONEY || !gauge
            ? { amount: typed.amount }
            : {
                subscription_id: gauge.subscription_id,
                allowance: gauge.name,
                percent: Number(typed.percent) || 0,
              },
      });
    },
    done: async () => {
      await stale(STALE.alert);
      onClose();
    },
  });
  const { of } = entry.form.watch();
  return (
    <Dialog open onClose={onClose} title="Set an alert">
      <Form of={entry}>
        <Choice
          name="of"
          label="Tell me of"
          autoFocus
          choices={[
            ...gauges.map(
              (g, at) => [String(at), `${g.name} of ${g.application}, on ${g.product} · ${g.plan}`] as const,
            ),
            [MONEY, "what the month comes to"] as const,
          ]}
        />
        {of === MONEY ? (
          <Line
            name="amount"
            label={`Once it comes to so much, in ${me.look.currency}, before tax`}
            inputMode="decimal"
            required
          />
        ) : (
          <Line name="percent" label="Once so many percent of it are used" inputMode="numeric" required />
        )}
        <Ends leave="Not now" onLeave={onClose}>
          <Send>Set it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function Hook({ of, onClose }: { of: Alerts; onClose: () => void }) {
  const stale = useStale();
  const entry = useEntry({
    start: { url: of.hook?.url ?? "" },
    send: (body) => api.put("/alert-hook", { body }),
    done: () => stale(STALE.alert),
  });
  const drop = useMutation({
    mutationFn: () => api.delete("/alert-hook", {}),
    onSuccess: async () => {
      await stale(STALE.alert);
      onClose();
    },
  });
  if (entry.answer)
    return (
      <Dialog open onClose={onClose} title="Your alerts are sent there">
        <p>
          Each is a POST, signed as Standard Webhooks says with this secret. It is shown this once; set the
          address again to have another.
        </p>
        <p className="my-3">
          <code
            data-testid="secret"
            className="bg-(--portal-tint) px-2.5 py-1.5 font-mono text-[13px] break-all"
          >
            {entry.answer.secret}
          </code>
        </p>
        <div className="mt-4 text-right">
          <Button main onClick={onClose}>
            I have kept it
          </Button>
        </div>
      </Dialog>
    );
  return (
    <Dialog open onClose={onClose} title="A webhook for alerts">
      {of.hook && (
        <p className="mb-3">
          They are sent to {of.hook.url}, as {of.hook.set_by} has said on {dayAndMinute(of.hook.set_at)}.{" "}
          <WordButton disabled={drop.isPending} onClick={() => drop.mutate()}>
            send them there no more
          </WordButton>
        </p>
      )}
      <Trouble error={drop.error} />
      <Form of={entry}>
        <Line
          name="url"
          label="Address"
          type="url"
          placeholder="https://…"
          required
          autoFocus
          hint="A public http or https address. What is not taken is sent again, with growing pauses."
        />
        <Ends leave="Not now" onLeave={onClose}>
          <Send>{of.hook ? "Send them here, signed anew" : "Send them here"}</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
