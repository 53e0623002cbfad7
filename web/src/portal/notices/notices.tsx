import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Portal } from "../../api/portal";
import { showAnswer, useStale } from "../../api/queries/asking";
import { noticeChoices, notices, STALE } from "../../api/queries/portal";
import { Button, Trouble, Waiting, WordButton } from "../../kit/controls";
import { dayAndMinute } from "../../kit/format";

type Notice = Portal["NoticeView"];
type Choice = Portal["GroupChoice"];

const GROUPS: Record<Choice["group"], string> = {
  plans: "Changes of plans, terms, trials and limits, and moves of subscriptions",
  keys: "Keys that are about to expire",
  requests: "Answers to requests",
  invoices: "Invoices",
  alerts: "Alerts",
  questions: "Answers to questions that you follow, and what became of yours",
  members: "Who comes, goes and may do what in your organisation",
};

/** What one was told, the newest first, and which of it comes by mail as well. */
export function NoticesPage() {
  const stale = useStale();
  const pages = useInfiniteQuery(notices());
  const read = useMutation({
    mutationFn: (ids: number[] | null) => api.post("/notices/read", { body: { notices: ids } }),
    onSuccess: () => stale(STALE.notices),
  });
  const rows = pages.data?.pages.flatMap((page) => page.rows) ?? [];
  const unread = rows.some((notice) => !notice.read);
  return (
    <>
      <h1>Notices</h1>
      <div className="mt-3 grid gap-x-12 gap-y-8 lg:grid-cols-[1fr_300px]">
        <section aria-label="What you were told" className="min-w-0">
          <Trouble error={pages.error ?? read.error} />
          {pages.isPending && <Waiting words="Reading your notices" />}
          {unread && (
            <p className="mb-1">
              <WordButton disabled={read.isPending} onClick={() => read.mutate(null)}>
                mark all as read
              </WordButton>
            </p>
          )}
          {rows.map((notice) => (
            <One key={notice.id} of={notice} onRead={() => read.mutate([notice.id])} />
          ))}
          {pages.data && rows.length === 0 && (
            <p className="text-soft">None yet. What concerns your plans, requests and invoices comes here.</p>
          )}
          {pages.hasNextPage && (
            <Button className="mt-3" onClick={() => pages.fetchNextPage()}>
              Earlier ones
            </Button>
          )}
        </section>
        <Choices />
      </div>
    </>
  );
}

/** A line that is an address alone: what it leads to has a link. */
const ADDRESS = /^https?:\/\/\S+$/gm;

function One({ of, onRead }: { of: Notice; onRead: () => void }) {
  return (
    <details
      className="border-b border-(--portal-line-soft) py-2"
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

function Choices() {
  const queries = useQueryClient();
  const query = useQuery(noticeChoices());
  // What was just chosen is shown at once.
  const [just, setJust] = useState<Choice | null>(null);
  const choose = useMutation({
    mutationFn: ({ group, by_mail }: Choice) =>
      api.put("/notice-choices/{group}", { params: { path: { group } }, body: { by_mail } }),
    onSuccess: (answer) => showAnswer(queries, noticeChoices(), answer),
    onSettled: () => setJust(null),
  });
  return (
    <aside aria-label="By mail" className="text-[14px] lg:border-l lg:border-(--portal-line) lg:pl-6">
      <h2 className="mb-2 text-[18px]">By mail</h2>
      <Trouble error={query.error ?? choose.error} />
      {query.data?.map((choice) => (
        <label key={choice.group} className="flex items-baseline gap-2 py-1">
          <input
            type="checkbox"
            className="accent-(--portal-main)"
            checked={just?.group === choice.group ? just.by_mail : choice.by_mail}
            disabled={choose.isPending}
            onChange={(e) => {
              const wanted = { ...choice, by_mail: e.target.checked };
              setJust(wanted);
              choose.mutate(wanted);
            }}
          />
          {GROUPS[choice.group]}
        </label>
      ))}
      <p className="mt-3 text-soft">
        What guards your sign-in, and what closes an account, comes by mail in any case.
      </p>
    </aside>
  );
}
