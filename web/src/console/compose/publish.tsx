import { api, type Console } from "../../api/console";
import { Dialog } from "../../kit/controls";
import { Line, Radios } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { listed, plural } from "../../kit/format";

type Sheet = Console["Sheet"];

const CHOICES = [
  ["next period", "move at the start of their next period, and are told by mail today"],
  ["at date", "move on a day, and are told by mail today"],
  ["keep", "keep their revision"],
] as const;
type Existing = (typeof CHOICES)[number][0];

/** Draft against live in words, who is on it, and what happens to them. */
export function Publish({
  sheet,
  onClose,
  onDone,
}: {
  sheet: Sheet;
  onClose: () => void;
  onDone: (sheet: Sheet) => void;
}) {
  const drafted = sheet.plans.filter((p) => p.drafted);
  const touched = drafted
    .filter((p) => p.live_revision !== null)
    .reduce((sum, p) => sum + p.subscriptions, 0);
  const entry = useEntry({
    start: { existing: "next period" as Existing, note: "", on: "" },
    send: ({ existing, note, on }) =>
      api.post("/products/{product_id}/publish", {
        params: { path: { product_id: sheet.product.id } },
        body: {
          editions: Object.fromEntries(drafted.map((p) => [p.id, p.edition])),
          existing: touched ? existing : "keep",
          note,
          on: existing === "at date" ? on : null,
        },
      }),
    done: onDone,
  });
  const { existing, on } = entry.form.watch();
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Publish ${listed(drafted.map((p) => `${p.name}, revision ${(p.live_revision ?? 0) + 1}`))}`}
    >
      <Form of={entry}>
        {sheet.changes.map((c) => (
          <p key={c.plan + c.term} className="border-b border-line-soft py-1.5">
            <b className="font-semibold">{c.plan}</b>, {c.term.toLowerCase()}:{" "}
            <s className="text-soft">{c.was || "none"}</s> → <span className="text-brass">{c.becomes}</span>
          </p>
        ))}
        {drafted
          .filter((p) => p.live_revision === null)
          .map((p) => (
            <p key={p.id} className="border-b border-line-soft py-1.5">
              <b className="font-semibold">{p.name}</b> goes on sale for the first time.
            </p>
          ))}
        {touched > 0 && (
          <fieldset className="mt-4">
            <legend className="mb-1">
              New subscribers get it at once. The {plural(touched, "subscription")} already on it
            </legend>
            <Radios name="existing" choices={CHOICES} />
            {existing === "at date" && (
              <div className="ml-6 w-48">
                <Line name="on" label="The day they move" type="date" required />
              </div>
            )}
          </fieldset>
        )}
        <div className="mt-3">
          <Line name="note" label="Why, for the record" />
        </div>
        <Ends leave="Not yet" onLeave={onClose}>
          <Send disabled={touched > 0 && existing === "at date" && !on}>
            Publish {plural(drafted.length, "revision")}
          </Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
