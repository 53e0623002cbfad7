import { useMutation, useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, type Console } from "../../api/console";
import { request as ofRequest, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { Button, Kbd, Trouble, WordButton } from "../../kit/controls";
import { amount, count, dayAndMinute, dayAndYear, listed } from "../../kit/format";
import { useKeys } from "../../kit/keys";
import { Listing } from "../../kit/list";
import { TermsTable } from "../compose/revision";
import { Aside, Page, Pair } from "../frame";
import { useList } from "../list";

type Request = Console["RequestView"];

/** The reviewer's queue of requests; the chosen one with everything in view. */
export function Desk() {
  const { id } = useParams();
  const [search, setSearch] = useSearchParams();
  const decided = search.get("show") === "decided";
  const navigate = useNavigate();
  const list = useList(
    "/requests",
    (query) => api.get("/requests", { params: { query: { ...query, decided } } }),
    { fixed: `decided=${decided}`, every: 5_000 },
  );
  const open = (r: Request) =>
    navigate(`/admit/desk/${r.id}${decided ? "?show=decided" : ""}`, { replace: Boolean(id) });
  const chosen = id ? Number(id) : (list.rows[0]?.id ?? null);
  const one = useQuery(ofRequest(chosen));
  return (
    <Page
      title="The desk"
      sub={
        decided ? (
          <>
            Decided requests, the latest first ·{" "}
            <WordButton onClick={() => setSearch({})}>those waiting</WordButton>
          </>
        ) : (
          <>
            Requests that wait, the oldest first ·{" "}
            <WordButton onClick={() => setSearch({ show: "decided" })}>those decided</WordButton>
          </>
        )
      }
      margin={one.data && <Background of={one.data} />}
    >
      <Listing
        list={list}
        id={(r) => r.id}
        words={decided ? "Consumer named" : undefined}
        reading="Looking what waits"
        empty={
          decided
            ? "Nothing has been decided yet."
            : "No request waits. When a developer asks for a reviewed plan, it comes here."
        }
        className={decided ? "" : "mt-3"}
        open={open}
        current={(r) => r.id === chosen}
        columns={[
          {
            head: "Since",
            sort: "since",
            cell: (r) => dayAndMinute(r.created_at),
            look: "whitespace-nowrap",
          },
          {
            head: "Consumer",
            sort: "consumer",
            cell: (r) => (
              <Link className="figure-link" to={`/admit/desk/${r.id}${decided ? "?show=decided" : ""}`}>
                {r.consumer}
              </Link>
            ),
          },
          { head: "Application", sort: "application", cell: (r) => r.application },
          {
            head: "Asks for",
            sort: "plan",
            cell: (r) => `${r.product} · ${r.moves_from ? `${r.moves_from} → ${r.plan}` : r.plan}`,
            look: "whitespace-nowrap",
          },
          decided
            ? { head: "Outcome", sort: "outcome", cell: (r) => r.state }
            : { head: "Asked by", cell: (r) => r.asked_by },
        ]}
      />
      {one.data && <Decide key={one.data.request.id} request={one.data.request} />}
      {one.error && <Trouble error={one.error} />}
    </Page>
  );
}

function Decide({ request }: { request: Request }) {
  const stale = useStale();
  const navigate = useNavigate();
  const [note, setNote] = useState("");
  const field = useRef<HTMLTextAreaElement>(null);
  const decide = useMutation({
    mutationFn: (decision: "granted" | "declined") =>
      api.post("/requests/{request_id}/decision", {
        params: { path: { request_id: request.id } },
        body: { decision, note },
      }),
    onSuccess: async (_, decision) => {
      await stale(STALE.request);
      if (decision) navigate("/admit/desk");
    },
    onError: () => field.current?.focus(),
  });
  const waiting = request.state === "waiting";
  useKeys({
    g: waiting ? () => decide.mutate("granted") : undefined,
    d: waiting ? () => (note.trim() ? decide.mutate("declined") : field.current?.focus()) : undefined,
  });
  return (
    <section className="mt-7 max-w-[680px]" aria-label="The request">
      <h2 className="text-[20px]">
        {request.application} of {request.consumer} for {request.product} · {request.plan}
      </h2>
      <p className="text-soft">
        Asked by {request.asked_by}, {request.email}, on {dayAndMinute(request.created_at)}; accepted the
        terms of use of {dayAndYear(request.terms_dated)}.
      </p>
      {request.moves_from && (
        <p className="mt-1">
          It is on {request.moves_from}; granted, it moves{" "}
          {request.moves_when === "later" ? "with the end of its trial or month" : "at once"}.
        </p>
      )}
      <blockquote className="my-3 border-l-[3px] border-line pl-3 font-serif text-[17px]">
        {request.purpose}
      </blockquote>
      {request.expected.length > 0 && <p className="mb-3">Expects about {listed(request.expected)}.</p>}
      {request.pays && (
        <p className="mb-3">
          {request.consumer} pays {request.pays}.
        </p>
      )}
      {request.first_granted_by && (
        <p className="mb-3">
          {request.first_granted_by} has agreed{request.first_note && `: “${request.first_note}”`}. It takes a
          second person.
        </p>
      )}
      {request.state === "passed to outside" && (
        <p className="mb-3">
          It is decided at the ticket desk
          {request.ticket ? `, as ticket ${request.ticket}.` : "; its ticket is being opened."}
        </p>
      )}
      {waiting ? (
        <>
          <label className="block text-[13px] text-soft">
            A note for the consumer (needed to decline)
            <textarea
              ref={field}
              rows={2}
              className="field text-ink"
              value={note}
              onChange={(e) => setNote(e.target.value)}
            />
          </label>
          <Trouble error={decide.error} />
          <div className="mt-3 flex items-center gap-3">
            <Button main disabled={decide.isPending} onClick={() => decide.mutate("granted")}>
              {request.access_route === "reviewed twice" && !request.first_granted_by
                ? "Agree, as the first"
                : "Grant"}
            </Button>
            <Kbd>g</Kbd>
            <Button disabled={decide.isPending} onClick={() => decide.mutate("declined")}>
              Decline
            </Button>
            <Kbd>d</Kbd>
          </div>
        </>
      ) : (
        request.state !== "passed to outside" && (
          <p>
            <b className="font-semibold">
              {request.state[0]?.toUpperCase()}
              {request.state.slice(1)}
            </b>{" "}
            by {request.decided_by}
            {request.decided_at && ` on ${dayAndMinute(request.decided_at)}`}.
            {request.note && ` “${request.note}”`}
          </p>
        )
      )}
    </section>
  );
}

function Background({ of }: { of: Console["RequestWithBackground"] }) {
  const { background: b, request } = of;
  const calls = b.calls_28_days as Record<string, number>;
  return (
    <>
      <Aside title={`What ${request.plan} gives`}>
        <TermsTable rows={b.plan_rows} />
        {b.trial_had && (
          <p className="mt-2">
            {request.consumer} has had its trial of {request.product}: this begins without one.
          </p>
        )}
      </Aside>
      {b.comes_to && (
        <Aside title="What it expects">
          <p>
            {b.comes_to.charge === null
              ? `${request.plan} would refuse some of it.`
              : `On ${request.plan} that is ${amount(b.comes_to.charge, b.comes_to.currency)} a month, before tax.`}
          </p>
          {b.comes_to.shortfalls.map((words) => (
            <p key={words} className="mt-1 text-madder">
              {words[0]?.toUpperCase()}
              {words.slice(1)}.
            </p>
          ))}
        </Aside>
      )}
      <Aside title={request.consumer}>
        <Pair name="Consumer since">{dayAndYear(b.consumer_since)}</Pair>
        <Pair name="Served in 28 days">{count((calls.served ?? 0) + (calls.held ?? 0))}</Pair>
        <Pair name="Refused in 28 days">{count(calls.refused ?? 0)}</Pair>
        {b.applications.map((a) => (
          <div key={a.id} className="py-[3px]" title={a.purpose}>
            {a.name}
            <span className="text-soft">
              : {a.plans.map((p) => `${p.product} · ${p.plan}, ${p.state}`).join("; ") || "no plan"}
            </span>
          </div>
        ))}
        <Link className="figure-link" to={`/admit/consumers/${request.consumer_id}`}>
          All of {request.consumer}
        </Link>
      </Aside>
      {b.earlier.length > 0 && (
        <Aside title="Earlier requests">
          {b.earlier.map((r) => (
            <div key={r.id} className="border-b border-line-soft py-1.5 last:border-0">
              {r.application} for {r.plan}: {r.state}
              {r.note && <div className="text-soft">“{r.note}”</div>}
            </div>
          ))}
        </Aside>
      )}
    </>
  );
}
