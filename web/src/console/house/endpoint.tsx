import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { endpoint, me, nextEvent, STALE } from "../../api/queries/house";
import { useAddress } from "../../kit/address";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { count, dayAndMinute } from "../../kit/format";
import { Listing } from "../../kit/list";
import { Aside, Nowhere, Page } from "../frame";
import { useList } from "../list";
import { isOne } from "../roles";
import { ChangeEndpoint, Secret } from "./endpoint-form";
import { CHANGERS, standing } from "./endpoints";
import { heard } from "./event-choice";

type Endpoint = Console["EndpointView"];
type Delivery = Console["DeliveryView"];

/** One endpoint: how it stands, what it was told, and what it answered. */
export function EndpointPage() {
  const { id = "" } = useParams();
  if (!/^\d{1,15}$/.test(id)) return <Nowhere />;
  return <One key={id} id={Number(id)} />;
}

function One({ id }: { id: number }) {
  const of = useQuery(endpoint(id));
  const may = isOne(useQuery(me()).data?.roles, CHANGERS);
  const { search, change } = useAddress();
  const [open, setOpen] = useState<Delivery | null>(null);
  const failed = search.get("failed") === "yes";
  const told = useList(
    "/endpoints/{endpoint_id}/deliveries",
    (query) =>
      api.get("/endpoints/{endpoint_id}/deliveries", {
        params: { path: { endpoint_id: id }, query: { ...query, failed } },
      }),
    { fill: { endpoint_id: String(id) }, fixed: failed ? "failed=true" : "", every: 3_000 },
  );
  return (
    <Page
      title={of.data?.name ?? "An endpoint"}
      sub={
        of.data &&
        `${of.data.form === "chat message" ? "A line in a chat room" : "A signed webhook"} to ${of.data.shown}, for ${heard(of.data.wants)}`
      }
      margin={
        of.data && (
          <>
            {open && <Told of={open} by={of.data} may={may} />}
            <Aside title="The endpoint">
              <p className="text-soft">
                Made by {of.data.made_by}, {dayAndMinute(of.data.made_at)}.
                {of.data.former_until &&
                  ` Webhooks are signed with the former secret as well until ${dayAndMinute(of.data.former_until)}.`}
              </p>
              {may && <Doings of={of.data} />}
            </Aside>
            <Aside title="What can be relied on">
              <p>
                Events come in the order in which they happened. Should a worker die at the wrong moment, one
                may come twice: its webhook-id is the same then. What is older than a month is forgotten, told
                or not.
              </p>
            </Aside>
          </>
        )
      }
    >
      <Trouble error={of.error} />
      {of.isPending && <Waiting words="Reading the endpoint" />}
      {of.data && (
        <>
          <Standing of={of.data} may={may} />
          <Listing
            list={told}
            id={(d) => d.id}
            words="Only events that mention"
            actions={
              <label className="flex items-baseline gap-2 text-[13px] text-soft">
                <input
                  type="checkbox"
                  className="accent-(--color-kelp)"
                  checked={failed}
                  onChange={() => change({ failed: failed ? null : "yes" })}
                />
                only what was not taken
              </label>
            }
            reading="Reading what it was told"
            empty={failed ? "It has taken whatever it was told." : "It has not been told anything yet."}
            more="Earlier ones"
            selected={(d) => open?.id === d.id}
            open={setOpen}
            columns={[
              { head: "When", cell: (d) => dayAndMinute(d.at), look: "whitespace-nowrap" },
              {
                head: "Event",
                cell: (d) => (
                  <>
                    <button type="button" className="block text-left" onClick={() => setOpen(d)}>
                      <span className="figure-link">{d.said}</span>
                    </button>
                    <div className="text-[12px] text-soft">{d.type}</div>
                  </>
                ),
              },
              {
                head: "It answered",
                cell: (d) => (
                  <>
                    <span className={d.taken ? "" : "text-madder"}>{outcome(d)}</span>
                    {d.what === "sent again" && <div className="text-[12px] text-soft">sent again</div>}
                  </>
                ),
              },
              {
                head: "After",
                number: true,
                cell: (d) => (d.what === "passed over" ? "" : `${count(d.took_ms)} ms`),
              },
            ]}
          />
        </>
      )}
    </Page>
  );
}

function outcome(d: Delivery): string {
  if (d.what === "passed over") return "passed over";
  return d.status === null ? "nothing" : `${d.status}, ${d.taken ? "taken" : "not taken"}`;
}

/** How it stands in a sentence, and what can be done where something is wrong. */
function Standing({ of, may }: { of: Endpoint; may: boolean }) {
  const stale = useStale();
  const next = useQuery(nextEvent(of.id)).data;
  const [passing, setPassing] = useState(false);
  const path = { endpoint_id: of.id };
  const tryNow = useMutation({
    mutationFn: () => api.post("/endpoints/{endpoint_id}/trying", { params: { path } }),
    onSuccess: () => stale(STALE.endpoint),
  });
  return (
    <section aria-label="How it stands" className="mt-4">
      <p role="status" className={of.trouble || !of.on ? "text-madder" : ""}>
        {standing(of)[0]?.toUpperCase()}
        {standing(of).slice(1)}.
      </p>
      {of.trouble && (
        <p className="text-[13px] text-soft">
          Last: {of.trouble.replace(/^NotTaken: /, "")}.
          {of.next_at && ` It is tried next ${dayAndMinute(of.next_at)}.`}
        </p>
      )}
      {next && (
        <p className="text-[13px] text-soft">
          Next is “{next.said}” ({next.type}), which happened {dayAndMinute(next.at)}.
        </p>
      )}
      {may && of.on && of.trouble && (
        <div className="mt-2 flex gap-4">
          <Button small disabled={tryNow.isPending} onClick={() => tryNow.mutate()}>
            Try it now
          </Button>
          {next && (
            <Button small onClick={() => setPassing(true)}>
              Pass that event over…
            </Button>
          )}
        </div>
      )}
      <Trouble error={tryNow.error} />
      {passing && next && <PassOver of={of} next={next} onClose={() => setPassing(false)} />}
    </section>
  );
}

function PassOver({ of, next, onClose }: { of: Endpoint; next: Console["NextEvent"]; onClose: () => void }) {
  const stale = useStale();
  const pass = useMutation({
    mutationFn: () =>
      api.post("/endpoints/{endpoint_id}/events/{event_id}/passing-over", {
        params: { path: { endpoint_id: of.id, event_id: next.id } },
      }),
    onSuccess: async () => {
      await stale(STALE.endpoint);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title="Pass an event over">
      <p className="mb-3">
        {of.name} will not hear that “{next.said}”, and goes on with what happened after it. That you did so
        is on the record.
      </p>
      <Trouble error={pass.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Leave it</Button>
        <Button main disabled={pass.isPending} onClick={() => pass.mutate()}>
          Pass it over
        </Button>
      </div>
    </Dialog>
  );
}

/** What one attempt was about, and what came back. */
function Told({ of, by, may }: { of: Delivery; by: Endpoint; may: boolean }) {
  const stale = useStale();
  const again = useMutation({
    mutationFn: () =>
      api.post("/endpoints/{endpoint_id}/events/{event_id}/again", {
        params: { path: { endpoint_id: by.id, event_id: of.event_id } },
      }),
    onSuccess: () => stale(STALE.endpoint),
  });
  return (
    <Aside title={`Event ${of.event_id}`}>
      <p>{of.said}.</p>
      <p className="text-soft">
        {of.type}, {dayAndMinute(of.happened_at)}
      </p>
      <p className="mt-1 break-words">
        {of.what === "passed over"
          ? of.answer
          : `It answered ${outcome(of)}${of.answer ? `: ${of.answer}` : ""}.`}
      </p>
      {may && (
        <p className="mt-2">
          <WordButton disabled={again.isPending} onClick={() => again.mutate()}>
            send it again
          </WordButton>
          {again.isSuccess && (
            <span role="status" className="ml-2 text-soft">
              It is on its way.
            </span>
          )}
        </p>
      )}
      <Trouble error={again.error} />
    </Aside>
  );
}

/** What can be done with it. */
function Doings({ of }: { of: Endpoint }) {
  const stale = useStale();
  const [dialog, setDialog] = useState<"" | "change" | "secret" | "take away">("");
  const params = { path: { endpoint_id: of.id } };
  const turn = useMutation({
    mutationFn: () => api.put("/endpoints/{endpoint_id}/on", { params, body: { on: !of.on } }),
    onSuccess: () => stale(STALE.endpoint),
  });
  const test = useMutation({
    mutationFn: () => api.post("/endpoints/{endpoint_id}/test", { params }),
    onSuccess: () => stale(STALE.endpoint),
  });
  const close = () => setDialog("");
  return (
    <div className="mt-2 flex flex-col items-start gap-1">
      {of.on && (
        <WordButton disabled={test.isPending} onClick={() => test.mutate()}>
          send a test
        </WordButton>
      )}
      <WordButton onClick={() => setDialog("change")}>change…</WordButton>
      {of.form === "signed webhook" && (
        <WordButton onClick={() => setDialog("secret")}>another secret…</WordButton>
      )}
      <WordButton disabled={turn.isPending} onClick={() => turn.mutate()}>
        {of.on ? "turn it off" : "turn it on"}
      </WordButton>
      <WordButton onClick={() => setDialog("take away")}>take it away…</WordButton>
      <Trouble error={turn.error ?? test.error} />
      {dialog === "change" && <ChangeEndpoint of={of} onClose={close} />}
      {dialog === "secret" && <Another of={of} onClose={close} />}
      {dialog === "take away" && <TakeAway of={of} onClose={close} />}
    </div>
  );
}

function Another({ of, onClose }: { of: Endpoint; onClose: () => void }) {
  const stale = useStale();
  const make = useMutation({
    mutationFn: () =>
      api.post("/endpoints/{endpoint_id}/secret", { params: { path: { endpoint_id: of.id } } }),
    onSuccess: () => stale(STALE.endpoint),
  });
  return (
    <Dialog open onClose={onClose} title={`Another secret for ${of.name}`}>
      {make.data ? (
        <Secret secret={make.data.secret} onClose={onClose} />
      ) : (
        <>
          <p className="mb-3">
            From then on webhooks are signed with the new secret, and for a day with the present one as well,
            so that there is time to change it over there.
          </p>
          <Trouble error={make.error} />
          <div className="mt-3 flex justify-end gap-2">
            <Button onClick={onClose}>Leave it</Button>
            <Button main disabled={make.isPending} onClick={() => make.mutate()}>
              Make another secret
            </Button>
          </div>
        </>
      )}
    </Dialog>
  );
}

function TakeAway({ of, onClose }: { of: Endpoint; onClose: () => void }) {
  const stale = useStale();
  const navigate = useNavigate();
  const take = useMutation({
    mutationFn: () => api.delete("/endpoints/{endpoint_id}", { params: { path: { endpoint_id: of.id } } }),
    onSuccess: async () => {
      navigate("/house/hooks");
      await stale(STALE.endpoint);
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Take ${of.name} away`}>
      <p className="mb-3">
        It hears nothing more{of.waiting > 0 && `, not even of the ${count(of.waiting)} that wait`}, and what
        it was told is no longer listed.
      </p>
      <Trouble error={take.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Leave it</Button>
        <Button main disabled={take.isPending} onClick={() => take.mutate()}>
          Take it away
        </Button>
      </div>
    </Dialog>
  );
}
