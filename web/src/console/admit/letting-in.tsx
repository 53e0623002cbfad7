import { api, type Console } from "../../api/console";
import { STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { Button, Note } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Form, Refused, useEntry } from "../../kit/form";

/** An organisation that waits to be let in, or was turned away: what it may do until then, and the answer. */
export function LettingIn({ consumer }: { consumer: Console["ConsumerView"] }) {
  const stale = useStale();
  const { id, name, state } = consumer.line;
  const entry = useEntry({
    start: { note: "", answer: "let in" as Console["AnswerIn"]["answer"] },
    send: (body) =>
      api.post("/consumers/{consumer_id}/answer", { params: { path: { consumer_id: id } }, body }),
    done: () => stale(STALE.answer),
  });
  const give = (answer: Console["AnswerIn"]["answer"]) => () => entry.form.setValue("answer", answer);
  return (
    <Form of={entry} className="mt-4">
      <Note>
        {name} {state === "waiting" ? "waits to be let in" : "was turned away"}. It sees what everybody sees,
        registers no application and asks for no plan. Its members are told what you decide.
      </Note>
      <div className="mt-2 max-w-[560px]">
        <Line name="note" label="A word to its members; a reason, where it is turned away" area />
      </div>
      <Refused />
      <div className="flex gap-2">
        <Button main type="submit" disabled={entry.sending} onClick={give("let in")}>
          Let {name} in
        </Button>
        {state === "waiting" && (
          <Button type="submit" disabled={entry.sending} onClick={give("turned away")}>
            Turn it away
          </Button>
        )}
      </div>
    </Form>
  );
}
