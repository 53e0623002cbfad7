import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { ratings, ratingsOf } from "../../api/queries/admit";
import { useAddress } from "../../kit/address";
import { Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { count, dayAndMinute } from "../../kit/format";
import { Listing } from "../../kit/list";
import { RatingBars } from "../../kit/rating-bars";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";
import { useList } from "../list";

type Row = Console["QuestionRow"];
type Rated = Console["ProductRated"];
type Wanted = "" | "answer" | "decision";

const WANTED: [Wanted, string][] = [
  ["", "all"],
  ["answer", "those that nobody has answered"],
  ["decision", "those that were reported"],
];
const STANDING: Record<Row["standing"], string> = {
  "not answered": "waits for an answer",
  answered: "answered",
  settled: "an answer helped",
};

/** What developers ask in the portals and how they rate what is sold. */
export function Questions() {
  const { search, change } = useAddress();
  const wanted = WANTED.find(([each]) => each === search.get("wanted"))?.[0] ?? "";
  const list = useList(
    "/questions",
    (query) => api.get("/questions", { params: { query: { ...query, wanted } } }),
    { fixed: `wanted=${wanted}` },
  );
  return (
    <Page
      title="Questions"
      sub={
        <>
          What developers ask in the portals:{" "}
          {WANTED.map(([each, words], at) => (
            <span key={each}>
              {at > 0 && " · "}
              {each === wanted ? (
                <span className="text-ink">{words}</span>
              ) : (
                <WordButton onClick={() => change({ wanted: each || null, sort: null, order: null })}>
                  {words}
                </WordButton>
              )}
            </span>
          ))}
        </>
      }
      margin={<Ratings />}
    >
      <Listing
        list={list}
        id={(q) => q.id}
        address={(q) => `/admit/questions/${q.id}`}
        words="With words"
        reading="Reading the questions"
        empty={
          wanted
            ? "None of that kind. What developers ask in a portal comes here."
            : "Nobody has asked anything yet. Developers do on a product’s page in the portal."
        }
        columns={[
          { head: "Question", cell: (q) => q.title, sort: "title" },
          { head: "Product", cell: (q) => q.product, sort: "product", look: "whitespace-nowrap" },
          { head: "Asked by", cell: (q) => `${q.by}, ${q.consumer}`, sort: "consumer" },
          { head: "Moved", cell: (q) => dayAndMinute(q.moved_at), sort: "moved", look: "whitespace-nowrap" },
          { head: "Answers", cell: (q) => count(q.answers), number: true },
          {
            head: "Stands",
            cell: (q) =>
              q.reports > 0 ? "reported" : q.state === "hidden" ? "hidden" : STANDING[q.standing],
            look: (q) =>
              q.reports > 0 ? "text-madder" : q.standing === "not answered" ? "text-brass" : "text-soft",
          },
        ]}
      />
    </Page>
  );
}

/** How each product is rated; who gave what, on opening. */
function Ratings() {
  const query = useQuery(ratings());
  const [opened, setOpened] = useState<Rated | null>(null);
  return (
    <>
      <Trouble error={query.error} />
      {query.isPending && <Waiting words="Reading the ratings" />}
      {query.data?.map((of) => {
        const any = of.given.some((each) => each.ratings > 0);
        return (
          <Aside key={of.product_id} title={of.product}>
            <p className="mb-1">
              {any ? (
                <WordButton onClick={() => setOpened(of)}>{of.said}</WordButton>
              ) : (
                <span className="text-soft">{of.said}</span>
              )}
            </p>
            {any && <RatingBars given={of.given} name={of.product} ink="var(--color-kelp)" />}
          </Aside>
        );
      })}
      {opened && <WhoRated of={opened} onClose={() => setOpened(null)} />}
    </>
  );
}

function WhoRated({ of, onClose }: { of: Rated; onClose: () => void }) {
  const query = useQuery(ratingsOf(of.product_id));
  return (
    <Dialog wide open onClose={onClose} title={`What organisations give ${of.product}`}>
      <Trouble error={query.error} />
      {query.isPending && <Waiting words="Reading who gave what" />}
      {query.data && (
        <Table
          rows={query.data}
          id={(r) => r.consumer_id}
          columns={[
            { head: "Consumer", cell: (r) => r.consumer, names: true },
            { head: "Of 5", cell: (r) => r.stars, number: true },
            { head: "Said by", cell: (r) => r.by },
            { head: "On", cell: (r) => dayAndMinute(r.rated_at), look: "whitespace-nowrap" },
          ]}
        />
      )}
    </Dialog>
  );
}
