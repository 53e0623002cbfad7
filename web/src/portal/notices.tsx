import { useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Portal } from "../api/portal";
import { showAnswer, useStale } from "../api/queries/asking";
import { noticeChoices, notices, STALE } from "../api/queries/portal";
import { ByMail, OwnNotices } from "../kit/own-notices";

const GROUPS: Record<Portal["GroupChoice"]["group"], string> = {
  plans: "Changes of plans, terms, trials and limits, and moves of subscriptions",
  keys: "Keys that are about to expire",
  requests: "Answers to requests",
  invoices: "Invoices",
  alerts: "Alerts",
  questions: "Answers to questions that you follow, and what became of yours",
  members: "Who comes, goes and may do what in your organisation",
};

/** What one was told, and which of it comes by mail as well. */
export function NoticesPage() {
  const stale = useStale();
  const queries = useQueryClient();
  const pages = useInfiniteQuery(notices());
  const choices = useQuery(noticeChoices());
  return (
    <>
      <h1>Notices</h1>
      <div className="mt-3 grid gap-x-12 gap-y-8 lg:grid-cols-[1fr_300px]">
        <OwnNotices
          pages={pages}
          read={async (ids) => {
            await api.post("/notices/read", { body: { notices: ids } });
            await stale(STALE.notices);
          }}
          none="None yet. What concerns your plans, requests and invoices comes here."
        />
        <aside aria-label="By mail" className="text-[14px] lg:border-l lg:border-(--portal-line) lg:pl-6">
          <h2 className="mb-2 text-[18px]">By mail</h2>
          <ByMail
            choices={choices.data}
            error={choices.error}
            words={GROUPS}
            choose={async ({ group, by_mail }) =>
              showAnswer(
                queries,
                noticeChoices(),
                await api.put("/notice-choices/{group}", { params: { path: { group } }, body: { by_mail } }),
              )
            }
          />
          <p className="mt-3 text-soft">
            What guards your sign-in, and what closes an account, comes by mail in any case.
          </p>
        </aside>
      </div>
    </>
  );
}
