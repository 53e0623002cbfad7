import { useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { api } from "../../api/console";
import { showAnswer, useStale } from "../../api/queries/asking";
import { noticeChoices, ownNotices, STALE } from "../../api/queries/house";
import { ByMail, OwnNotices } from "../../kit/own-notices";
import { Aside, Page } from "../frame";

const GROUPS = { requests: "Requests handed to you, and answers to what you asked back" };

/** What one of the provider's people was told, and which of it comes by mail as well. */
export function OwnNoticesPage() {
  const stale = useStale();
  const queries = useQueryClient();
  const pages = useInfiniteQuery(ownNotices());
  const choices = useQuery(noticeChoices());
  return (
    <Page
      title="Your notices"
      sub="What colleagues and consumers left you to know of."
      margin={
        <Aside title="By mail">
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
          <p className="mt-2 text-soft">What guards your sign-in comes by mail in any case.</p>
        </Aside>
      }
    >
      <div className="mt-4">
        <OwnNotices
          pages={pages}
          read={async (ids) => {
            await api.post("/notices/read", { body: { notices: ids } });
            await stale(STALE.ownNotices);
          }}
          none="None yet. A request that a colleague hands to you is told here, and an answer to what you asked."
        />
      </div>
    </Page>
  );
}
