import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Console } from "../../api/console";
import { Problem } from "../../api/problem";
import { makeStale, showAnswer } from "../../api/queries/asking";
import { apiVersion, callers as callersOf, STALE } from "../../api/queries/compose";
import { Dialog, Note, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Ends, Form, Refused, Send, useEntry } from "../../kit/form";
import { count, dayAndMinute, dayAndYear, plural } from "../../kit/format";
import { Aside, Page, Pair } from "../frame";
import { useOpened } from "../lately";
import { ApiFields, type Settings } from "./api-fields";
import { Forwarding } from "./forwarding";
import { OperationTable } from "./operation-table";
import { ReleaseNotes } from "./release-notes";

type View = Console["ApiView"];

const settingsOf = (view: View): Settings => ({
  name: view.name,
  version: view.version,
  description: view.description,
  base_path: view.base_path,
  back_end_url: view.back_end_url,
  capacity_per_second: view.capacity_per_second,
  chosen_by: view.chosen_by as Settings["chosen_by"],
  chosen_name: view.chosen_name,
  chosen_value: view.chosen_value,
  sandbox_url: view.sandbox_url,
  health_path: view.health_path,
});

/** One API version: its operations, where it answers, how its back ends are, and how long it lives. */
export function Api() {
  const { id } = useParams();
  const queries = useQueryClient();
  const asked = apiVersion(Number(id));
  const one = useQuery({ ...asked, refetchInterval: 15_000 });
  const [settings, setSettings] = useState(false);
  const view = one.data;
  useOpened(view && `${view.name} ${view.version}`);
  if (!view)
    return (
      <Page title="API">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the API" />}
      </Page>
    );
  const show = async (next: View) => {
    await showAnswer(queries, asked, next);
    makeStale(queries, STALE.apiShown);
  };
  return (
    <Page
      title={`${view.name} ${view.version}`}
      sub={
        <>
          {standing(view)} · answers under {view.base_path}
          {view.chosen_by === "header" && `, where ${view.chosen_name} says ${view.chosen_value}`}
          {view.chosen_by === "host" && `, on ${view.chosen_value}`} · {plural(view.operations, "operation")}{" "}
          · <WordButton onClick={() => setSettings(true)}>where it answers and asks</WordButton>
        </>
      }
      margin={<ApiMargin view={view} onShow={show} />}
    >
      {view.description && <p className="mt-2 max-w-[70ch]">{view.description}</p>}
      <OperationTable view={view} />
      {settings && (
        <EditSettings
          view={view}
          onClose={() => setSettings(false)}
          onDone={(next) => {
            show(next);
            setSettings(false);
          }}
        />
      )}
    </Page>
  );
}

function standing(view: View): string {
  if (view.state === "sunset" && view.sunset_at) return `ends on ${dayAndYear(view.sunset_at)}`;
  return view.state;
}

function EditSettings({
  view,
  onClose,
  onDone,
}: {
  view: View;
  onClose: () => void;
  onDone: (view: View) => void;
}) {
  const [edition, setEdition] = useState(view.edition);
  const entry = useEntry({
    start: settingsOf(view),
    send: (body) =>
      api.put("/apis/{version_id}", {
        params: { path: { version_id: view.id }, header: { "if-match": `"${edition}"` } },
        body,
      }),
    done: onDone,
  });
  const { error } = entry;
  const other = error instanceof Problem && error.status === 412 ? (error.current as View) : null;
  return (
    <Dialog wide open onClose={onClose} title={`${view.name} ${view.version}: where it answers and asks`}>
      <Form of={entry}>
        {other && (
          <Note>
            Somebody else saved this meanwhile: under {other.base_path}, from {other.back_end_url}. Yours is
            below. <WordButton onClick={() => onDone(other)}>Take theirs</WordButton> or{" "}
            <WordButton
              onClick={() => {
                setEdition(other.edition);
                entry.again();
              }}
            >
              go on with yours
            </WordButton>
            .
          </Note>
        )}
        <ApiFields />
        {!other && <Refused />}
        <Send>Save</Send>
      </Form>
    </Dialog>
  );
}

function ApiMargin({ view, onShow }: { view: View; onShow: (view: View) => void }) {
  return (
    <>
      <Aside title="Back ends">
        {view.health.map((h) => (
          <div key={h.environment} className="mb-1.5">
            <Pair name={h.environment === "live" ? "Live" : "Sandbox"}>
              {h.well ? "well" : <b className="font-semibold text-madder">not well</b>}
            </Pair>
            <div className="text-soft">
              {h.answer} in {h.took_ms} ms, asked {dayAndMinute(h.checked_at)}; {h.well ? "well" : "not well"}{" "}
              since {dayAndMinute(h.since)}
            </div>
          </div>
        ))}
        {view.health.length === 0 && (
          <p className="text-soft">Not asked yet. The worker asks every quarter of a minute.</p>
        )}
        {view.capacity_per_second !== null && (
          <Pair name="Takes, by its owner's word">{count(view.capacity_per_second)} a second</Pair>
        )}
      </Aside>
      <Forwarding view={view} onShow={onShow} />
      <Aside title="Loose ends">
        {view.unsold === 0 && view.uncounted === 0 ? (
          <p className="text-soft">Every operation is sold and counted.</p>
        ) : (
          <>
            {view.unsold > 0 && (
              <p>
                <Link className="figure-link" to="?standing=unsold">
                  {plural(view.unsold, "operation")} in no product
                </Link>
              </p>
            )}
            {view.uncounted > 0 && (
              <p>
                <Link className="figure-link" to="?standing=uncounted">
                  {plural(view.uncounted, "operation")} counted by no meter
                </Link>
              </p>
            )}
          </>
        )}
      </Aside>
      <Aside title="Document">
        <p className="text-soft">
          {view.document ? `Brought in from ${view.document}.` : "Its operations were typed by hand."}
        </p>
        <Link className="figure-link" to={`/compose/documents/new?to=${view.id}`}>
          Bring in a newer document
        </Link>
      </Aside>
      <ReleaseNotes view={view} />
      <Life view={view} onShow={onShow} />
    </>
  );
}

const MOVES: Record<string, string> = {
  live: "Let it answer calls",
  sunset: "Announce its end…",
  gone: "End it now…",
};

/** The version's life: draft, live, sunset with a day, gone. */
function Life({ view, onShow }: { view: View; onShow: (view: View) => void }) {
  const [asked, setAsked] = useState<"sunset" | "gone" | null>(null);
  const path = { version_id: view.id };
  const move = (body: Console["StateIn"]) => api.put("/apis/{version_id}/state", { params: { path }, body });
  const live = useMutation({ mutationFn: () => move({ state: "live" }), onSuccess: onShow });
  return (
    <Aside title="Its life">
      {view.sunset_at && view.state === "sunset" && (
        <p>
          Announced {view.deprecated_at && dayAndYear(view.deprecated_at)}. Every answer says so in its
          Deprecation and Sunset fields.
        </p>
      )}
      {view.moves.map((to) => (
        <p key={to} className="py-0.5">
          <WordButton onClick={() => (to === "live" ? live.mutate() : setAsked(to as "sunset" | "gone"))}>
            {to === "live" && view.state === "sunset" ? "Call its end off" : MOVES[to]}
          </WordButton>
        </p>
      ))}
      {view.moves.length === 0 && <p className="text-soft">It is gone and answers 410.</p>}
      <Trouble error={live.error} />
      {asked && (
        <EndDialog
          view={view}
          to={asked}
          onClose={() => setAsked(null)}
          send={(day) => move({ state: asked, sunset_on: day })}
          done={(next) => {
            setAsked(null);
            onShow(next);
          }}
        />
      )}
    </Aside>
  );
}

function EndDialog({
  view,
  to,
  onClose,
  send,
  done,
}: {
  view: View;
  to: "sunset" | "gone";
  onClose: () => void;
  send: (day: string | null) => Promise<View>;
  done: (next: View) => void;
}) {
  const entry = useEntry({ start: { sunset_on: "" }, send: (typed) => send(typed.sunset_on || null), done });
  const { sunset_on } = entry.form.watch();
  const callers = useQuery(callersOf(view.id));
  const names = callers.data ?? [];
  return (
    <Dialog open onClose={onClose} title={to === "sunset" ? "Announce its end" : "End it now"}>
      <Form of={entry}>
        <p className="mb-3">
          {names.length
            ? `${plural(names.length, "consumer")} may call ${view.name} ${view.version} now: ${names.join(", ")}.`
            : `Nobody may call ${view.name} ${view.version} now.`}{" "}
          {to === "sunset"
            ? "Their members are told by mail today."
            : "From now on each of their calls to it is answered 410. This cannot be undone."}
        </p>
        {to === "sunset" && <Line name="sunset_on" label="It answers no more from" type="date" required />}
        <Ends leave="Not yet" onLeave={onClose}>
          <Send disabled={to === "sunset" && !sunset_on}>
            {to === "sunset" ? "Announce it" : `End it for ${plural(names.length, "consumer")}`}
          </Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
