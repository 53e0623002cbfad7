import { useQuery } from "@tanstack/react-query";
import { releaseNotes } from "../api/queries/portal";
import { Trouble, Waiting } from "../kit/controls";
import { dayAndYear } from "../kit/format";
import { Prose } from "../kit/prose";

/** What was new in the versions of a product, the newest first. */
export function ReleaseNotes({ slug }: { slug: string }) {
  const notes = useQuery(releaseNotes(slug));
  if (notes.error) return <Trouble error={notes.error} />;
  if (!notes.data) return <Waiting words="Fetching what is new" />;
  if (notes.data.length === 0) return <p className="text-soft">Nothing new has been said of it yet.</p>;
  return (
    <ol className="max-w-[76ch]">
      {notes.data.map((note) => (
        <li
          key={note.id}
          className="grid gap-x-8 border-t border-(--portal-line-soft) py-3 md:grid-cols-[170px_1fr] [&_p:first-child]:mt-0"
        >
          <div>
            <div>{dayAndYear(note.day)}</div>
            <div className="text-[13px] text-soft">{note.version}</div>
          </div>
          <Prose html={note.html} />
        </li>
      ))}
    </ol>
  );
}
