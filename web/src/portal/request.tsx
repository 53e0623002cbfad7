import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { ownRequest, STALE } from "../api/queries/portal";
import { Button, Field, Trouble, Waiting } from "../kit/controls";
import { dayAndMinute, listed } from "../kit/format";
import { EVENTS } from "../kit/request-words";
import { useMe } from "./me";

type Request = Portal["OwnRequest"];

/** One's own request: where it stands, what comes next, and all that was said. */
export function RequestPage() {
  const { id } = useParams();
  const me = useMe();
  const one = useQuery(ownRequest(Number(id)));
  const r = one.data;
  if (!r) return one.error ? <Trouble error={one.error} /> : <Waiting words="Fetching your request" />;
  return (
    <>
      <h1>
        {r.application} for {r.product} · {r.moves_from ? `${r.moves_from} → ${r.plan}` : r.plan}
      </h1>
      <section
        aria-label="Where it stands"
        className={`mt-3 max-w-[70ch] border-l-[3px] pl-4 ${r.acts === "you" ? "border-(--portal-accent)" : "border-(--portal-line)"}`}
      >
        <p className="font-serif text-[19px]">{r.stands}</p>
        <p>{r.next}</p>
        {r.state === "granted" && (
          <p className="mt-1">
            <Link className="figure-link" to={`/applications/${r.application_id}`}>
              Make a key for {r.application}
            </Link>
          </p>
        )}
        {r.state === "declined" && (
          <p className="mt-1">
            <Link className="figure-link" to={`/products/${r.slug}`}>
              The plans of {r.product}
            </Link>
          </p>
        )}
      </section>
      <section aria-label="What was said" className="mt-6 max-w-[70ch]">
        <h2 className="text-[20px]">What was said</h2>
        {r.messages.map((m) => (
          <div key={m.id} className="border-b border-(--portal-line-soft) py-2.5">
            <p className="text-[13px] text-soft">
              {m.by} {EVENTS[m.kind] ?? m.kind}, {dayAndMinute(m.at)}
            </p>
            {m.text && <p className="whitespace-pre-line">{m.text}</p>}
          </div>
        ))}
        {r.expected.length > 0 && (
          <p className="py-2.5 text-[13px] text-soft">It expects about {listed(r.expected)}.</p>
        )}
        {r.open && me.may.includes("ask for plans") && <Say of={r} />}
      </section>
    </>
  );
}

function Say({ of: r }: { of: Request }) {
  const stale = useStale();
  const [text, setText] = useState("");
  const say = useMutation({
    mutationFn: () =>
      api.post("/requests/{request_id}/messages", { params: { path: { request_id: r.id } }, body: { text } }),
    onSuccess: () => {
      setText("");
      return stale(STALE.request);
    },
  });
  const asked = r.state === "asked back";
  return (
    <form
      className="mt-4"
      onSubmit={(e) => {
        e.preventDefault();
        say.mutate();
      }}
    >
      <Field area label={asked ? "Your answer" : "Write about it"} value={text} onChange={setText} />
      <Trouble error={say.error} />
      <Button main={asked} type="submit" disabled={!text.trim() || say.isPending}>
        {asked ? "Send the answer" : "Send it"}
      </Button>
    </form>
  );
}
