import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, useParams } from "react-router";
import { api, type Console } from "../../../api/console";
import { request as ofRequest, STALE } from "../../../api/queries/admit";
import { useStale } from "../../../api/queries/asking";
import { colleagues } from "../../../api/queries/house";
import { Choose } from "../../../kit/choose";
import { Trouble, Waiting } from "../../../kit/controls";
import { amount, count, dayAndMinute, dayAndYear, listed } from "../../../kit/format";
import { Table } from "../../../kit/table";
import { Page } from "../../frame";
import { useOpened } from "../../lately";
import { inWords } from "../../roles";
import { Background } from "./background";
import { Conversation } from "./conversation";
import { Decide } from "./decide";
import { Undo } from "./undo";
import { lastDay, waited } from "./waiting";

type Whole = Console["RequestWithBackground"];
type Request = Console["RequestView"];

/** One request with everything in view. */
export function RequestPage() {
  const { id } = useParams();
  const one = useQuery(ofRequest(Number(id)));
  const whole = one.data;
  useOpened(whole && `${whole.request.application} of ${whole.request.consumer}`);
  if (!whole)
    return (
      <Page title="The desk">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the request" />}
      </Page>
    );
  const r = whole.request;
  return (
    <Page
      title={`${r.application} of ${r.consumer}`}
      sub={`asks for ${r.product} · ${r.moves_from ? `${r.moves_from} → ${r.plan}` : r.plan}`}
      margin={<Background of={whole} />}
    >
      <Undo />
      <Others id={r.id} />
      <What of={whole} />
      <Stands of={r} subscription={whole.background.subscription_id} />
      {["waiting", "asked back"].includes(r.state) && <Decide key={r.id} of={whole} />}
      <Conversation
        of={whole.messages}
        id={r.id}
        open={["waiting", "asked back", "passed to outside"].includes(r.state)}
      />
    </Page>
  );
}

/** Who else has it open: told while one looks at it oneself. */
function Others({ id }: { id: number }) {
  const look = useMutation({
    mutationFn: () => api.post("/requests/{request_id}/presence", { params: { path: { request_id: id } } }),
  });
  const { mutate } = look;
  useEffect(() => {
    mutate();
    const again = setInterval(mutate, 5_000);
    return () => clearInterval(again);
  }, [mutate]);
  if (!look.data?.length) return null;
  return (
    <p role="status" className="mt-3 border-l-[3px] border-dusk pl-2.5">
      {listed(look.data)} {look.data.length === 1 ? "has" : "have"} it open, too.
    </p>
  );
}

function What({ of: { request: r, background: b } }: { of: Whole }) {
  return (
    <section className="mt-4 max-w-[680px]" aria-label="The request">
      <blockquote className="mb-3 border-l-[3px] border-line pl-3 font-serif text-[17px]">
        {r.purpose}
      </blockquote>
      <p className="text-soft">
        {r.asked_by}, {r.email}, asked on {dayAndMinute(r.created_at)} and accepted the terms of use of{" "}
        {dayAndYear(r.terms_dated)}.{" "}
        {r.pays ? `${r.consumer} pays ${r.pays}.` : `${r.consumer} has not said how it pays.`}
      </p>
      {r.moves_from && (
        <p className="mt-1">
          It is on {r.moves_from}; granted, it moves{" "}
          {r.moves_when === "later" ? "with the end of its trial or month" : "at once"}.
        </p>
      )}
      {b.expects.length > 0 && (
        <Table
          tight
          className="mt-3"
          rows={b.expects}
          id={(e) => e.meter}
          columns={[
            { head: "Expected in a month", cell: (e) => e.meter },
            { head: "Units", number: true, cell: (e) => count(e.units) },
            {
              head: `${r.plan} lets in`,
              number: true,
              cell: (e) =>
                e.allowed === null ? (
                  <span className="text-soft">any number</span>
                ) : (
                  <span className={Number(e.allowed) < Number(e.units) ? "text-madder" : ""}>
                    {count(e.allowed)}
                  </span>
                ),
            },
          ]}
        />
      )}
      <p className="mt-2">
        {b.expects.length > 0
          ? "That would be charged"
          : "It says no volume; without any use a month is charged"}{" "}
        <span className="text-brass">{amount(r.weight, b.currency)}</span>
        {b.expects.length > 0 && " a month"}, before tax.
        {b.comes_to?.shortfalls.map((words) => (
          <span key={words} className="block text-madder">
            {words[0]?.toUpperCase()}
            {words.slice(1)}.
          </span>
        ))}
      </p>
    </section>
  );
}

/** How it is decided, who agreed, and how long it has waited. */
function Stands({ of: r, subscription }: { of: Request; subscription: number | null }) {
  const late = r.due_at && r.state !== "asked back" && new Date(r.due_at) <= new Date();
  return (
    <section className="mt-4 max-w-[680px]" aria-label="How it stands">
      <p>
        {r.state !== "passed to outside" && r.way}{" "}
        {r.agreed.map((a) => (
          <span key={a.name + a.at}>
            {a.name} has agreed{a.note ? `: “${a.note}”` : "."}{" "}
          </span>
        ))}
        {["waiting", "asked back"].includes(r.state) && r.agreed.length > 0 && `It still needs ${r.needs}.`}
      </p>
      {r.state === "passed to outside" && (
        <p>
          It is decided at the ticket desk
          {r.ticket
            ? `, as ticket ${r.ticket}${r.ticket_state ? `, which is ${r.ticket_state}` : ""}.`
            : "; its ticket is being opened."}
        </p>
      )}
      {r.state === "asked back" && <p>Something was asked back; it rests until there is an answer.</p>}
      {r.decided_at ? (
        <p>
          <b className="font-semibold">
            {r.state[0]?.toUpperCase()}
            {r.state.slice(1)}
          </b>{" "}
          by {r.decided_by} on {dayAndMinute(r.decided_at)}.{r.reason && ` ${r.reason}.`}
          {r.note && ` “${r.note}”`}
          {subscription && (
            <>
              {" "}
              <Link className="figure-link" to={`/admit/subscriptions/${subscription}`}>
                The whole history
              </Link>
            </>
          )}
        </p>
      ) : (
        <p className="text-soft">
          It has waited {waited(r.created_at)}
          {r.due_at && (
            <span className={late ? "text-madder" : ""}>
              , to be answered by the end of {lastDay(r.due_at)}
            </span>
          )}
          .
        </p>
      )}
      {!r.decided_at && <InHand of={r} />}
    </section>
  );
}

/** Into whose hands it is put. */
function InHand({ of: r }: { of: Request }) {
  const stale = useStale();
  const all = useQuery(colleagues());
  const put = useMutation({
    mutationFn: (person: number | null) =>
      api.put("/requests/{request_id}/hands", {
        params: { path: { request_id: r.id }, header: { "if-match": `"${r.edition}"` } },
        body: { person_id: person },
      }),
    onSettled: () => stale(STALE.request),
  });
  if (!all.data) return null;
  return (
    <div className="mt-2">
      <Choose
        label="In the hands of"
        className="max-w-[300px]"
        value={String(r.assigned_id ?? "")}
        choices={[
          ["", "nobody"],
          ...all.data.map(
            (p) => [String(p.id), p.me ? `${p.name} (you)` : `${p.name}, ${inWords(p.roles)}`] as const,
          ),
        ]}
        onChange={(person) => put.mutate(person ? Number(person) : null)}
      />
      <Trouble error={put.error} />
    </div>
  );
}
