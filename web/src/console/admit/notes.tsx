import { useMutation } from "@tanstack/react-query";
import { api, type Console } from "../../api/console";
import { STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { Trouble, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { dayAndMinute } from "../../kit/format";

/** What colleagues note about a consumer, for each other. */
export function Notes({ of: c }: { of: Console["ConsumerView"] }) {
  const stale = useStale();
  const path = { consumer_id: c.line.id };
  const entry = useEntry({
    start: { text: "" },
    send: (body) => api.post("/consumers/{consumer_id}/notes", { params: { path }, body }),
    done: () => stale(STALE.note),
    afresh: true,
  });
  const away = useMutation({
    mutationFn: (note: number) =>
      api.delete("/consumers/{consumer_id}/notes/{note_id}", {
        params: { path: { ...path, note_id: note } },
      }),
    onSettled: () => stale(STALE.note),
  });
  return (
    <>
      {c.notes.map((n) => (
        <div key={n.id} className="border-b border-line-soft py-2">
          <p className="text-[12px] text-soft">
            {n.by}, {dayAndMinute(n.at)}
            {n.mine && (
              <>
                {" "}
                · <WordButton onClick={() => away.mutate(n.id)}>take it away</WordButton>
              </>
            )}
          </p>
          <p className="whitespace-pre-line">{n.text}</p>
        </div>
      ))}
      <Trouble error={away.error} />
      <Form of={entry} className="mt-2 max-w-[620px]">
        <Line name="text" label="A note for colleagues; the consumer never sees it" area required />
        <Refused />
        <Send main={false}>Keep the note</Send>
      </Form>
    </>
  );
}
