import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { me } from "../../../api/queries/house";
import { handedBatch, STALE } from "../../../api/queries/settle";
import { useAddress } from "../../../kit/address";
import { Button, Trouble, Waiting, WordButton } from "../../../kit/controls";
import { count, dayAndMinute, decimals, plural } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import { Table } from "../../../kit/table";
import { Aside, Page } from "../../frame";
import { useOpened } from "../../lately";
import { useList } from "../../list";
import { isOne } from "../../roles";
import { callsLink } from "../links";
import { Whose } from "../whose";
import { HandoffPage } from "./handoff";

type Event = Console["HandedEventView"];
type Batch = Console["HandedBatchView"];
type State = NonNullable<"waiting" | "sent" | "accepted" | "refused">;

const STATES: [State | "", string][] = [
  ["", "All"],
  ["waiting", "Waiting"],
  ["sent", "Being sent"],
  ["accepted", "Accepted"],
  ["refused", "Refused"],
];
const HOUR_US = 3_600_000_000;
const hourOf = (e: Event) => dayAndMinute(new Date(e.hour_us / 1000));
const callsIn = (e: Event) =>
  callsLink(e.subscription_id, e.meter_id, { since_us: e.hour_us, until_us: e.hour_us + HOUR_US });

/** What is told of each hour, and what became of it. */
export function HandedEvents() {
  const { search } = useAddress();
  const state = (search.get("state") ?? "") as State | "";
  return (
    <HandoffPage
      shown="events"
      about={
        <Aside title="What is told">
          <p className="text-soft">
            The units of one meter of one subscription in one hour; and again, by a next revision, how many
            more or fewer they are, where calls come later or are struck out.
          </p>
        </Aside>
      }
    >
      {(finance) => (
        <>
          <p className="mt-2">
            {STATES.map(([each, words], n) => (
              <span key={each}>
                {n > 0 && " · "}
                {each === state ? (
                  <b className="font-medium">{words}</b>
                ) : (
                  <Link className="figure-link" to={each ? `?state=${each}` : "?"}>
                    {words}
                  </Link>
                )}
              </span>
            ))}
          </p>
          <Events state={state} finance={finance} />
        </>
      )}
    </HandoffPage>
  );
}

function Events({ state, batch, finance }: { state?: State | ""; batch?: number; finance: boolean }) {
  const stale = useStale();
  const query = { ...(state ? { state } : {}), ...(batch ? { batch } : {}) };
  const list = useList(
    "/handoff/events",
    (asked) => api.get("/handoff/events", { params: { query: { ...asked, ...query } } }),
    { fixed: new URLSearchParams(Object.entries(query).map(([k, v]) => [k, String(v)])).toString() },
  );
  const places = decimals(list.rows.map((e) => e.units));
  const onSettled = () => stale(STALE.handoff);
  const again = useMutation({
    mutationFn: (id: number) =>
      api.post("/handoff/events/{handed_id}/again", { params: { path: { handed_id: id } } }),
    onSettled,
  });
  const all = useMutation({ mutationFn: () => api.post("/handoff/events/again"), onSettled });
  return (
    <>
      <Trouble error={again.error ?? all.error} />
      <Listing
        list={list}
        id={(e) => e.id}
        words="Consumer, application or reason"
        reading="Reading the hours"
        empty="No hour is told of here."
        actions={
          finance &&
          state === "refused" &&
          list.total > 0 && (
            <Button main onClick={() => all.mutate()} disabled={all.isPending}>
              Hand all of them on again
            </Button>
          )
        }
        columns={[
          {
            head: "Hour",
            sort: "hour",
            look: "whitespace-nowrap align-top",
            cell: (e) => (
              <Link className="figure-link" to={callsIn(e)}>
                {hourOf(e)}
              </Link>
            ),
          },
          {
            head: "Subscription",
            look: "align-top",
            cell: (e) => (
              <>
                <Whose of={e} more={e.trial && ", in its trial"} />
                {e.revision > 1 && (
                  <div className="text-[13px] text-brass">
                    revision {e.revision}: {e.units.startsWith("-") ? "fewer" : "more"} than was told before
                  </div>
                )}
              </>
            ),
          },
          {
            head: "Units",
            number: true,
            look: "align-top",
            cell: (e) => (
              <>
                {count(e.units, places)}
                <div className="text-[13px] text-soft">{e.meter}</div>
              </>
            ),
          },
          { head: "What became of it", look: "align-top", cell: (e) => <Became of={e} batch={batch} /> },
          finance && {
            head: "Again",
            quiet: true,
            look: "align-top",
            cell: (e) =>
              e.state === "refused" && (
                <WordButton onClick={() => again.mutate(e.id)} disabled={again.isPending}>
                  again
                  <span className="sr-only">
                    {" "}
                    {e.consumer}, {hourOf(e)}
                  </span>
                </WordButton>
              ),
          },
        ]}
      />
    </>
  );
}

function Became({ of: e, batch }: { of: Event; batch?: number }) {
  const to = [e.customer, e.price].filter(Boolean).join(", ");
  if (e.state === "waiting")
    return e.missing ? <span className="text-brass">waits for a {e.missing}</span> : <>waits, for {to}</>;
  return (
    <>
      <span className={e.state === "refused" ? "text-madder" : ""}>
        {e.state === "sent" ? "is being sent" : e.state}
      </span>
      {e.batch_id && e.batch_id !== batch && (
        <>
          {" "}
          <span className="text-soft">in</span>{" "}
          <Link className="figure-link whitespace-nowrap" to={`/settle/handoff/batches/${e.batch_id}`}>
            batch {e.batch_id}
          </Link>
        </>
      )}
      <div className="text-[13px] text-soft">{e.refused_why || to}</div>
    </>
  );
}

/** What was sent, batch by batch. */
export function HandedBatches() {
  const list = useList("/handoff/batches", (query) => api.get("/handoff/batches", { params: { query } }), {
    every: 5_000,
  });
  return (
    <HandoffPage
      shown="batches"
      about={
        <Aside title="How it is sent">
          <p className="text-soft">
            As CloudEvents, up to 500 in a batch, signed, under one key until it is answered: however often it
            is sent, the outside counts it once.
          </p>
        </Aside>
      }
    >
      {() => (
        <div className="mt-3">
          <Listing
            list={list}
            id={(b) => b.id}
            reading="Reading the batches"
            empty="Nothing was sent yet."
            address={(b) => `/settle/handoff/batches/${b.id}`}
            columns={[
              { head: "Batch", cell: (b) => b.id },
              { head: "Made", sort: "newest", cell: (b) => dayAndMinute(b.made_at) },
              { head: "Hours", number: true, cell: (b) => count(b.events) },
              { head: "Accepted", number: true, cell: (b) => b.answered_at && count(b.accepted) },
              {
                head: "Refused",
                number: true,
                cell: (b) => b.refused > 0 && <span className="text-madder">{count(b.refused)}</span>,
              },
              { head: "Last try", cell: (b) => <LastTry of={b} /> },
            ]}
          />
        </div>
      )}
    </HandoffPage>
  );
}

function LastTry({ of: b }: { of: Batch }) {
  const last = b.tries[0];
  if (!last) return <span className="text-soft">not tried yet</span>;
  return (
    <span className={last.taken ? "" : "text-madder"}>
      {last.said} <span className="text-soft">{dayAndMinute(last.at)}</span>
    </span>
  );
}

/** One batch: the tries to hand it on, and what it tells of. */
export function HandedBatch() {
  const id = Number(useParams().id);
  const read = useQuery(handedBatch(id));
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  useOpened(`Batch ${id}`);
  const of = read.data;
  if (!of)
    return (
      <Page title={`Batch ${id}`}>
        {read.error ? <Trouble error={read.error} /> : <Waiting words="Reading the batch" />}
      </Page>
    );
  return (
    <Page
      title={`Batch ${id}`}
      sub={`${plural(of.events, "hour")}, put together on ${dayAndMinute(of.made_at)}. ${answered(of)}`}
      margin={<Tries of={of} finance={finance} />}
    >
      <p className="mt-4">
        <Link className="figure-link" to="/settle/handoff/batches">
          All batches
        </Link>
      </p>
      <Events batch={id} finance={finance} />
    </Page>
  );
}

const answered = (b: Batch) => {
  if (!b.answered_at) return "It is sent until it is answered.";
  if (!b.refused) return "All of it was accepted.";
  return `${count(b.accepted)} accepted, ${count(b.refused)} refused.`;
};

function Tries({ of, finance }: { of: Batch; finance: boolean }) {
  const stale = useStale();
  const again = useMutation({
    mutationFn: () =>
      api.post("/handoff/batches/{batch_id}/again", { params: { path: { batch_id: of.id } } }),
    onSettled: () => stale(STALE.handoff),
  });
  return (
    <>
      <Aside title="Tries">
        <Table
          tight
          rows={of.tries}
          id={(_, n) => n}
          none="It was not tried yet."
          columns={[
            { head: "When", cell: (t) => dayAndMinute(t.at), look: "whitespace-nowrap" },
            { head: "Answer", cell: (t) => <span className={t.taken ? "" : "text-madder"}>{t.said}</span> },
          ]}
        />
      </Aside>
      {finance && of.accepted > 0 && (
        <Aside title="Should they have lost it">
          <p className="text-soft">
            What was accepted of it is sent once more as it was. Where it is there already, it counts once.
          </p>
          <p className="mt-2">
            <Button onClick={() => again.mutate()} disabled={again.isPending}>
              Send it again
            </Button>
          </p>
          <Trouble error={again.error} />
        </Aside>
      )}
    </>
  );
}
