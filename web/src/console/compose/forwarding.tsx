import { useState } from "react";
import { api, type Console } from "../../api/console";
import { Dialog, WordButton } from "../../kit/controls";
import { Choices, digits, Line, Tick } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { count, listed, plural } from "../../kit/format";
import { Aside } from "../frame";

type View = Console["ApiView"];
type Settings = View["forwarding"];

/** How back ends are asked, in sentences, and the dialog that changes it. */
export function Forwarding({ view, onShow }: { view: View; onShow: (view: View) => void }) {
  const [open, setOpen] = useState(false);
  const f = view.forwarding;
  return (
    <Aside title="How they are asked">
      <p>
        They have {count(f.connect_ms)} ms to connect and {count(f.answer_ms)} ms between parts of an answer;
        a call's body may have {count(f.most_body_bytes)} bytes.
      </p>
      <p className="mt-1">
        {f.breaker_failures
          ? `After ${plural(f.breaker_failures, "failure")} in a row they are left alone for ${f.breaker_seconds} s.`
          : "They are asked however often they fail."}
      </p>
      <p className="mt-1">
        {f.passes_caller
          ? "They are told who calls, on which plan, with the application's tags."
          : "They are not told who calls."}{" "}
        {f.cors_origins.length
          ? `Pages of ${f.cors_origins.includes("*") ? "any origin" : f.cors_origins.join(", ")} may call.`
          : "No page of another origin may call."}
      </p>
      {(view.back_end_login || view.sandbox_login) && (
        <p className="mt-1">
          {view.back_end_login && view.sandbox_login
            ? "Both are"
            : view.back_end_login
              ? "The live one is"
              : "That of the sandbox is"}{" "}
          asked with a name and password, which are sealed and shown to nobody.
        </p>
      )}
      <p className="mt-1">{letsThrough(f.lets_through)}</p>
      <p className="mt-1">
        {f.kept_headers.length
          ? `Of a call’s fields ${listed(f.kept_headers)} ${f.kept_headers.length === 1 ? "is" : "are"} recorded`
          : "None of a call’s fields are recorded"}
        {f.keeps_bodies
          ? "; in the sandbox the first 8 KB of bodies, too, for seven days."
          : ", and no bodies."}
      </p>
      <p className="mt-1">
        Of what anyone may try in the sandbox, one address tries {plural(f.tries_an_hour, "call")} an hour.
      </p>
      <p className="mt-1">
        <WordButton onClick={() => setOpen(true)}>change how they are asked</WordButton>
      </p>
      {open && (
        <Change
          view={view}
          onClose={() => setOpen(false)}
          onDone={(next) => {
            setOpen(false);
            onShow(next);
          }}
        />
      )}
    </Aside>
  );
}

const ODD = [
  ["odd paths", "paths with a semicolon, an encoded ? or #, or bytes that are no UTF-8"],
  ["other case", "paths that, in another case, are an operation the caller has not subscribed to"],
  ["overrides", "header fields that ask for another method or path"],
] as const;

/** What goes through although back ends read it differently, as a sentence. */
function letsThrough(chosen: Settings["lets_through"]): string {
  const words = ODD.filter(([name]) => chosen.includes(name)).map(([, text]) => text);
  return words.length
    ? `They are sent ${words.join("; and ")}.`
    : "What they might read as another path or method is refused.";
}

type Numbers =
  | "connect_ms"
  | "answer_ms"
  | "most_body_bytes"
  | "breaker_failures"
  | "breaker_seconds"
  | "tries_an_hour";
const NUMBERS: readonly (readonly [Numbers, string])[] = [
  ["connect_ms", "To connect, ms"],
  ["answer_ms", "Between parts of an answer, ms"],
  ["most_body_bytes", "Longest body, bytes"],
  ["breaker_failures", "Left alone after so many failures in a row"],
  ["breaker_seconds", "for so many seconds"],
  ["tries_an_hour", "Tries an hour without an account"],
];

function Change({
  view,
  onClose,
  onDone,
}: {
  view: View;
  onClose: () => void;
  onDone: (view: View) => void;
}) {
  const entry = useEntry({
    start: {
      ...view.forwarding,
      cors_origins: view.forwarding.cors_origins.join(", "),
      kept_headers: view.forwarding.kept_headers.join(", "),
    },
    send: (typed) =>
      api.put("/apis/{version_id}/forwarding", {
        params: { path: { version_id: view.id }, header: { "if-match": `"${view.edition}"` } },
        body: {
          ...typed,
          cors_origins: typed.cors_origins.split(/[,\s]+/).filter(Boolean),
          kept_headers: typed.kept_headers.split(/[,\s]+/).filter(Boolean),
        },
      }),
    done: onDone,
  });
  return (
    <Dialog wide open onClose={onClose} title={`${view.name} ${view.version}: how back ends are asked`}>
      <Form of={entry}>
        <div className="grid grid-cols-3 gap-x-6">
          {NUMBERS.map(([name, label]) => (
            <Line
              key={name}
              name={name}
              label={label}
              required
              inputMode="numeric"
              kept={digits}
              hint={name === "breaker_failures" ? "0: never" : undefined}
            />
          ))}
        </div>
        <Line
          name="cors_origins"
          label="Origins of pages that may call from a browser"
          placeholder="none; * for any, or https://maps.example, https://…"
        />
        <Tick name="passes_caller">
          Tell the back end who calls: Calm-Consumer, -Application, -Client, -Plan, -Subscription,
          -Environment, -Tags
        </Tick>
        <Line
          name="kept_headers"
          label="Fields recorded with each call, which its consumer sees"
          placeholder="none; or accept, user-agent, …"
          hint="Never those that carry credentials."
        />
        <Tick name="keeps_bodies">
          Keep the first 8 KB of bodies sent and answered in the sandbox, for seven days
        </Tick>
        <Choices
          name="lets_through"
          label="Sent on although some back ends read it as another path or method"
          choices={ODD}
          none="Nothing of the kind: it is refused."
        />
        <Ends onLeave={onClose}>
          <Send>Save</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
