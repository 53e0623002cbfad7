import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { me } from "../../api/queries/house";
import { STALE, strikePreview } from "../../api/queries/settle";
import { Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { amount, count, dayAndMinute, listed, month, plural } from "../../kit/format";
import { Listing } from "../../kit/list";
import { Aside, Page } from "../frame";
import { useList } from "../list";
import { isOne } from "../roles";

type Which = Partial<Console["CallsIn"]>;
type Preview = Console["StrikePreview"];
type Strike = Console["StrikeView"];
type Typed = { first_day: string; last_day: string; why: string };

/** Striking calls out: which, what that changes, and why. Those of a stretch can be narrowed to days. */
export function StrikeOut({ which, onClose }: { which: Which; onClose: () => void }) {
  const stale = useStale();
  const [key] = useState(() => crypto.randomUUID());
  const shown = useRef(0);
  const named = (which.ids ?? []).length > 0;
  const narrowed = ({ first_day, last_day }: Typed): Which => ({
    ...which,
    first_day: first_day || null,
    last_day: last_day || null,
  });
  const entry = useEntry<Typed, Strike>({
    start: { first_day: "", last_day: "", why: "" },
    send: (typed) =>
      api.post("/strikes", {
        params: { header: { "idempotency-key": key } },
        body: {
          which: narrowed(typed) as Console["CallsIn"],
          why: typed.why,
          calls: shown.current,
        },
      }),
    done: async () => {
      await stale(STALE.strikes);
      onClose();
    },
  });
  const preview = useQuery(strikePreview(narrowed(entry.form.watch())));
  shown.current = preview.data?.calls ?? 0;
  return (
    <Dialog open wide onClose={onClose} title={named ? "Strike this call out" : "Strike calls out"}>
      <Form of={entry}>
        {!named && (
          <div className="grid grid-cols-2 gap-x-5">
            <Line name="first_day" label="From the day" type="date" />
            <Line name="last_day" label="To the day, included" type="date" />
          </div>
        )}
        <Trouble error={preview.error} />
        {preview.isPending && <Waiting words="Counting what would change" />}
        {preview.data && !preview.error && <Changes of={preview.data} />}
        <Line name="why" label="Why, for the record" area required />
        <Ends onLeave={onClose}>
          <Send disabled={!preview.data?.calls || preview.isFetching || Boolean(preview.error)}>
            Strike {plural(preview.data?.calls ?? 0, "call")} out
          </Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function Changes({ of: p }: { of: Preview }) {
  if (p.calls === 0)
    return <p className="mb-3">No call of {p.consumer} is meant that counts. Refused ones count nothing.</p>;
  return (
    <section aria-label="What it changes" className="mb-3">
      <p>
        <b className="font-medium">{plural(p.calls, "call")}</b> of {p.consumer}, made {when(p)}.{" "}
        {p.calls === 1
          ? "It stays recorded, marked, and no longer counts."
          : "They stay recorded, marked, and no longer count."}
      </p>
      <ul>
        {p.months.map((m) => (
          <li key={m.month} className="mt-1.5">
            {month(m.month)}: {units(m.units) || "counted on no meter"}
            <div className="text-soft">
              {m.before === m.after ? (
                `before tax ${amount(m.before)}, as now`
              ) : (
                <>
                  before tax {amount(m.before)} now,{" "}
                  <span className="text-brass">{amount(m.after)} then</span>
                  {m.number
                    ? `; what is less is proposed as a credit note for ${m.number}`
                    : "; a draft of it is to be charged anew"}
                </>
              )}
            </div>
          </li>
        ))}
      </ul>
      <p className="mt-2 text-[13px] text-soft">
        An allowance gets nothing back: a quota holds what it has let in.
      </p>
    </section>
  );
}

const units = (of: Strike["units"]) => listed(of.map((u) => `${count(u.units)} ${u.meter}`));
const when = ({ first_at: first, last_at: last }: { first_at: string | null; last_at: string | null }) =>
  [first, last === first ? null : last]
    .filter((at) => at !== null)
    .map(dayAndMinute)
    .join(" to ");

/** Calls that were struck out, by whom and why; they can count again. */
export function StruckOut() {
  const finance = isOne(useQuery(me()).data?.roles, ["finance"]);
  const [undoing, setUndoing] = useState<Strike | null>(null);
  const list = useList("/strikes", (query) => api.get("/strikes", { params: { query } }));
  return (
    <Page
      title="Struck out"
      sub="Recorded calls that were taken back: they stay to be seen, and no longer count."
      margin={<How />}
    >
      <Listing
        list={list}
        id={(s) => s.id}
        words="Consumer named"
        reading="Reading what was struck out"
        empty="Nothing was struck out. Calls are under Observe, Traffic: choose a consumer there."
        columns={[
          {
            head: "Calls",
            look: "align-top",
            cell: (s) => (
              <>
                {plural(s.calls, "call")} of{" "}
                <Link
                  className="figure-link"
                  to={`/observe/traffic?consumer=${s.consumer_id}&since_us=${micros(s.first_at)}&until_us=${micros(s.last_at) + 1000}`}
                >
                  {s.consumer}
                </Link>
                <div className="text-[13px] text-soft">{when(s)}</div>
              </>
            ),
          },
          { head: "Had counted", look: "align-top", cell: (s) => units(s.units) || "nothing" },
          {
            head: "By whom, and why",
            look: "align-top",
            width: "w-[40%]",
            cell: (s) => (
              <>
                {s.by}, {dayAndMinute(s.at)}
                <div className="text-[13px] text-soft">{s.why}</div>
                {s.undone_at && (
                  <div className="text-[13px] text-brass">
                    {s.calls === 1 ? "It counts" : "They count"} again: {s.undone_by},{" "}
                    {dayAndMinute(s.undone_at)}. {s.undone_why}
                  </div>
                )}
              </>
            ),
          },
          finance && {
            head: "Undo",
            quiet: true,
            look: "align-top whitespace-nowrap",
            cell: (s) =>
              !s.undone_at && (
                <WordButton onClick={() => setUndoing(s)}>
                  count again<span className="sr-only">, {plural(s.calls, "call")}</span>…
                </WordButton>
              ),
          },
        ]}
      />
      {undoing && <Undo of={undoing} onClose={() => setUndoing(null)} />}
    </Page>
  );
}

const micros = (moment: string) => Date.parse(moment) * 1000;

function How() {
  return (
    <Aside title="Where calls are struck out">
      <p className="text-soft">
        In <Link to="/observe/traffic">Traffic</Link>, once a consumer is chosen; on a call's receipt; and for
        what came with a <Link to="/settle/usage">file</Link>. Each shows first what it would change.
      </p>
    </Aside>
  );
}

function Undo({ of: s, onClose }: { of: Strike; onClose: () => void }) {
  const stale = useStale();
  const entry = useEntry<{ why: string }, Strike>({
    start: { why: "" },
    send: (body) => api.post("/strikes/{strike_id}/undo", { params: { path: { strike_id: s.id } }, body }),
    done: async () => {
      await stale(STALE.strikes);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Have ${plural(s.calls, "call")} count again`}>
      <Form of={entry}>
        <p className="mb-2">
          {s.calls === 1 ? "It is" : "They are"} of {s.consumer}, and had counted{" "}
          {units(s.units) || "nothing"}. Of a month that is issued this is charged late.
        </p>
        <Line name="why" label="Why, for the record" area required autoFocus />
        <Ends onLeave={onClose}>
          <Send>Have {s.calls === 1 ? "it" : "them"} count again</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
