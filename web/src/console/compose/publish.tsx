import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { Button, Dialog, Field, Trouble } from "../../kit/controls";
import { plural } from "../../kit/format";

type Sheet = Console["Sheet"];

const CHOICES = [
  ["next period", "move at the start of their next period, and are told by mail today"],
  ["at date", "move on a day, and are told by mail today"],
  ["keep", "keep their revision"],
] as const;

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
  const [existing, setExisting] = useState<"keep" | "next period" | "at date">("next period");
  const [note, setNote] = useState("");
  const [on, setOn] = useState("");
  const drafted = sheet.plans.filter((p) => p.drafted);
  const touched = drafted
    .filter((p) => p.live_revision !== null)
    .reduce((sum, p) => sum + p.subscriptions, 0);
  const publish = useMutation({
    mutationFn: () =>
      api.post("/products/{product_id}/publish", {
        params: { path: { product_id: sheet.product.id } },
        body: {
          editions: Object.fromEntries(drafted.map((p) => [p.id, p.edition])),
          existing: touched ? existing : "keep",
          note,
          on: existing === "at date" ? on : null,
        },
      }),
    onSuccess: onDone,
  });
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Publish ${drafted.map((p) => `${p.name}, revision ${(p.live_revision ?? 0) + 1}`).join(" and ")}`}
    >
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
          {CHOICES.map(([choice, words]) => (
            <label key={choice} className="flex items-baseline gap-2 py-1">
              <input
                type="radio"
                name="existing"
                className="accent-(--color-kelp)"
                checked={existing === choice}
                onChange={() => setExisting(choice)}
              />
              {words}
            </label>
          ))}
          {existing === "at date" && (
            <div className="ml-6 w-48">
              <Field label="The day they move" type="date" required value={on} onChange={setOn} />
            </div>
          )}
        </fieldset>
      )}
      <div className="mt-3">
        <Field label="Why, for the record" value={note} onChange={setNote} />
      </div>
      <Trouble error={publish.error} />
      <div className="mt-3 flex justify-end gap-2">
        <Button onClick={onClose}>Not yet</Button>
        <Button
          main
          disabled={publish.isPending || (touched > 0 && existing === "at date" && !on)}
          onClick={() => publish.mutate()}
        >
          Publish {plural(drafted.length, "revision")}
        </Button>
      </div>
    </Dialog>
  );
}
