import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { Problem } from "../../api/problem";
import { useStale } from "../../api/queries/asking";
import { releaseNotes, STALE } from "../../api/queries/compose";
import { Button, Dialog, Note, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Ends, Form, Refused, Send, useEntry } from "../../kit/form";
import { dayAndYear } from "../../kit/format";
import { Prose } from "../../kit/prose";
import { Aside } from "../frame";
import { Markdown } from "../markdown";

type View = Console["ApiView"];
type Kept = Console["NoteView"];

/** What was new in a version, as consumers read it; the newest first. */
export function ReleaseNotes({ view }: { view: View }) {
  const stale = useStale();
  const notes = useQuery(releaseNotes(view.id));
  const [edited, setEdited] = useState<Kept | "new" | null>(null);
  return (
    <Aside title="Release notes">
      <Trouble error={notes.error} />
      {notes.isPending && <Waiting words="Reading the notes" />}
      {notes.data?.length === 0 && <p className="text-soft">Nothing was said to be new yet.</p>}
      <ul>
        {notes.data?.map((note) => (
          <li key={note.id} className="mb-1.5">
            <WordButton onClick={() => setEdited(note)}>{dayAndYear(note.day)}</WordButton>
            <div className="line-clamp-3 text-soft">
              <Prose html={note.html} />
            </div>
          </li>
        ))}
      </ul>
      <WordButton onClick={() => setEdited("new")}>Write one</WordButton>
      {edited && (
        <Edit
          view={view}
          note={edited === "new" ? null : edited}
          onClose={() => setEdited(null)}
          onDone={() => {
            setEdited(null);
            stale(STALE.releaseNote);
          }}
        />
      )}
    </Aside>
  );
}

function Edit({
  view,
  note,
  onClose,
  onDone,
}: {
  view: View;
  note: Kept | null;
  onClose: () => void;
  onDone: () => void;
}) {
  const [edition, setEdition] = useState(note?.edition ?? 0);
  const entry = useEntry({
    start: { day: note?.day ?? "", text: note?.text ?? "" },
    send: (body) =>
      note
        ? api.put("/release-notes/{note_id}", {
            params: { path: { note_id: note.id }, header: { "if-match": `"${edition}"` } },
            body,
          })
        : api.post("/apis/{version_id}/release-notes", { params: { path: { version_id: view.id } }, body }),
    done: onDone,
  });
  const remove = useMutation({
    mutationFn: (id: number) => api.delete("/release-notes/{note_id}", { params: { path: { note_id: id } } }),
    onSuccess: onDone,
  });
  const { error } = entry;
  const other = error instanceof Problem && error.status === 412 ? (error.current as Kept) : null;
  const { text } = entry.form.watch();
  return (
    <Dialog wide open onClose={onClose} title={`What is new in ${view.name} ${view.version}`}>
      <Form of={entry}>
        {other && (
          <Note>
            Somebody else changed this meanwhile; theirs is below.{" "}
            <WordButton
              onClick={() => {
                setEdition(other.edition);
                entry.again();
              }}
            >
              Go on with yours
            </WordButton>
            <Prose html={other.html} />
          </Note>
        )}
        <div className="w-56">
          <Line name="day" label="Read by consumers from this day on" type="date" required />
        </div>
        <Markdown name="text" label="What is new" value={text} />
        {!other && <Refused />}
        <Trouble error={remove.error} />
        <Ends onLeave={onClose}>
          {note && (
            <Button disabled={remove.isPending} onClick={() => remove.mutate(note.id)}>
              Take it away
            </Button>
          )}
          <Send>Save</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
