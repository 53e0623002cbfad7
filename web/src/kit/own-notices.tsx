import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Portal } from "../api/portal";
import { Button, Trouble, Waiting, WordButton } from "./controls";
import { dayAndMinute } from "./format";

type Notice = Portal["NoticeView"];
type Choice = Portal["GroupChoice"];

type ListProps = {
  /** What was read of it, page by page. */
  pages: {
    data?: { pages: { rows: Notice[] }[] };
    isPending: boolean;
    error: unknown;
    hasNextPage: boolean;
    fetchNextPage: () => unknown;
  };
  /** Marks some as read, or all of them. */
  read: (ids: number[] | null) => Promise<unknown>;
  none: string;
};

/** What one was told, the newest first. */
export function OwnNotices({ pages, read, none }: ListProps) {
  const mark = useMutation({ mutationFn: read });
  const rows = pages.data?.pages.flatMap((page) => page.rows) ?? [];
  return (
    <section aria-label="What you were told" className="min-w-0">
      <Trouble error={pages.error ?? mark.error} />
      {pages.isPending && <Waiting words="Reading your notices" />}
      {rows.some((notice) => !notice.read) && (
        <p className="mb-1">
          <WordButton disabled={mark.isPending} onClick={() => mark.mutate(null)}>
            mark all as read
          </WordButton>
        </p>
      )}
      {rows.map((notice) => (
        <One key={notice.id} of={notice} onRead={() => mark.mutate([notice.id])} />
      ))}
      {pages.data && rows.length === 0 && <p className="text-soft">{none}</p>}
      {pages.hasNextPage && (
        <Button className="mt-3" onClick={() => pages.fetchNextPage()}>
          Earlier ones
        </Button>
      )}
    </section>
  );
}

/** A line that is an address alone: what it leads to has a link. */
const ADDRESS = /^https?:\/\/\S+$/gm;

function One({ of, onRead }: { of: Notice; onRead: () => void }) {
  return (
    <details
      className="border-b border-(--mark-line) py-2"
      onToggle={(event) => {
        if (event.currentTarget.open && !of.read) onRead();
      }}
    >
      <summary className="cursor-pointer">
        <span className={of.read ? "" : "font-semibold"}>{of.subject}</span>{" "}
        <span className="text-[13px] text-soft">
          {dayAndMinute(of.written_at)}
          {!of.read && " · unread"}
        </span>
      </summary>
      <p className="mt-2 max-w-[76ch] text-[14px] whitespace-pre-line">
        {of.text.replace(ADDRESS, "").trim()}
      </p>
      {of.page && (
        <p className="mt-1 mb-1">
          <Link className="figure-link" to={of.page}>
            Open what it is about
          </Link>
        </p>
      )}
    </details>
  );
}

type ChoicesProps = {
  choices: Choice[] | undefined;
  error: unknown;
  choose: (wanted: Choice) => Promise<unknown>;
  /** What each group is of. */
  words: Partial<Record<Choice["group"], string>>;
};

/** Which of it comes by mail as well. */
export function ByMail({ choices, error, choose, words }: ChoicesProps) {
  // What was just chosen is shown at once.
  const [just, setJust] = useState<Choice | null>(null);
  const chosen = useMutation({ mutationFn: choose, onSettled: () => setJust(null) });
  return (
    <>
      <Trouble error={error ?? chosen.error} />
      {choices?.map((choice) => (
        <label key={choice.group} className="flex items-baseline gap-2 py-1">
          <input
            type="checkbox"
            className="accent-(--mark)"
            checked={just?.group === choice.group ? just.by_mail : choice.by_mail}
            disabled={chosen.isPending}
            onChange={(e) => {
              const wanted = { ...choice, by_mail: e.target.checked };
              setJust(wanted);
              chosen.mutate(wanted);
            }}
          />
          {words[choice.group] ?? choice.group}
        </label>
      ))}
    </>
  );
}
