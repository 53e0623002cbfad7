import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../../api/console";
import { STALE } from "../../../api/queries/admit";
import { useStale } from "../../../api/queries/asking";
import { Button, Field, Trouble } from "../../../kit/controls";
import { dayAndMinute } from "../../../kit/format";
import { EVENTS } from "../../../kit/request-words";

type Message = Console["MessageView"];

/** What was said and done about a request, and what is said next. */
export function Conversation({ of, id, open }: { of: Message[]; id: number; open: boolean }) {
  return (
    <section aria-label="Conversation" className="mt-7 max-w-[680px]">
      <h2 className="border-b border-line pb-1">Conversation</h2>
      {of.map((m) => (
        <div
          key={m.id}
          className={`border-b border-line-soft py-2 ${m.inside ? "border-l-[3px] border-l-dusk pl-2.5" : ""}`}
        >
          <p className="text-[12px] text-soft">
            {m.by} {EVENTS[m.kind] ?? m.kind}, {dayAndMinute(m.at)}
            {m.inside && " · inside"}
          </p>
          {m.text && m.kind !== "asked" && <p className="whitespace-pre-line">{m.text}</p>}
        </div>
      ))}
      {open && <Write id={id} />}
    </section>
  );
}

function Write({ id }: { id: number }) {
  const stale = useStale();
  const [text, setText] = useState("");
  const say = useMutation({
    mutationFn: (inside: boolean) =>
      api.post("/requests/{request_id}/messages", {
        params: { path: { request_id: id } },
        body: { text, inside },
      }),
    onSuccess: () => {
      setText("");
      return stale(STALE.request);
    },
  });
  return (
    <div className="mt-3">
      <Field area label="Write about it" value={text} onChange={setText} />
      <Trouble error={say.error} />
      <div className="flex gap-2">
        <Button small disabled={!text.trim() || say.isPending} onClick={() => say.mutate(false)}>
          Send it to the consumer
        </Button>
        <Button small disabled={!text.trim() || say.isPending} onClick={() => say.mutate(true)}>
          Keep it as a note inside
        </Button>
      </div>
    </div>
  );
}
