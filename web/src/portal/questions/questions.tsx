import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Portal } from "../../api/portal";
import { useStale } from "../../api/queries/asking";
import { questions, STALE } from "../../api/queries/portal";
import { useAddress } from "../../kit/address";
import { Button, Dialog, Trouble, Waiting } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { day, plural } from "../../kit/format";
import { OneQuestion } from "./question";
import { HowRated } from "./rating";
import { useSilence } from "./silence";

type QuestionLine = Portal["QuestionLine"];

/** What developers ask about a product and how they rate it; one question with its answers, where one is chosen. */
export function Questions({ slug, name }: { slug: string; name: string }) {
  const { search } = useAddress();
  const chosen = Number(search.get("question"));
  return (
    <div className="grid gap-x-12 gap-y-8 lg:grid-cols-[1fr_280px]">
      <div className="min-w-0">
        {chosen ? <OneQuestion key={chosen} id={chosen} /> : <List slug={slug} name={name} />}
      </div>
      <HowRated slug={slug} name={name} />
    </div>
  );
}

function List({ slug, name }: { slug: string; name: string }) {
  const { search, change } = useAddress();
  const words = search.get("asked") ?? "";
  const pages = useInfiniteQuery(questions(slug, words));
  const [asking, setAsking] = useState(false);
  const rows = pages.data?.pages.flatMap((page) => page.rows) ?? [];
  return (
    <section aria-label="Questions">
      <div className="mb-2 flex flex-wrap items-end gap-x-6 gap-y-2">
        <label className="flex min-w-0 flex-1 items-baseline gap-2 text-[14px] whitespace-nowrap text-soft">
          Find a question
          <input
            className="w-full max-w-[300px] border-b border-(--portal-main) bg-transparent pb-0.5 text-ink"
            value={words}
            onChange={(e) => change({ asked: e.target.value || null })}
          />
        </label>
        <Button onClick={() => setAsking(true)}>Ask a question</Button>
      </div>
      <Trouble error={pages.error} />
      {pages.isPending && <Waiting words="Reading the questions" />}
      <ul>
        {rows.map((row) => (
          <Row key={row.id} of={row} slug={slug} />
        ))}
      </ul>
      {pages.data && rows.length === 0 && (
        <p className="py-2 text-soft">
          {words ? "No question has these words." : `Nobody has asked about ${name} yet.`}
        </p>
      )}
      {pages.hasNextPage && (
        <Button className="mt-3" onClick={() => pages.fetchNextPage()}>
          Earlier ones
        </Button>
      )}
      {asking && <Ask slug={slug} name={name} onClose={() => setAsking(false)} />}
    </section>
  );
}

function Row({ of, slug }: { of: QuestionLine; slug: string }) {
  return (
    <li className="border-b border-(--portal-line-soft) py-2.5">
      <Link className="figure-link text-[16px]" to={`/products/${slug}?view=questions&question=${of.id}`}>
        {of.title}
      </Link>
      <div className="mt-0.5 text-[13px] text-soft">
        {of.answers === 0 ? "no answer yet" : plural(of.answers, "answer")}
        {of.standing === "settled" && ", one of which helped"} · asked by {of.by} on {day(of.asked_at)}
      </div>
    </li>
  );
}

function Ask({ slug, name, onClose }: { slug: string; name: string; onClose: () => void }) {
  const stale = useStale();
  const { change } = useAddress();
  const silence = useSilence();
  const entry = useEntry({
    start: { title: "", text: "" },
    send: (body) => api.post("/products/{slug}/questions", { params: { path: { slug } }, body }),
    done: async (made) => {
      await stale(STALE.question);
      onClose();
      change({ question: String(made.id) });
    },
  });
  return (
    <Dialog wide open onClose={onClose} title={`Ask about ${name}`}>
      {silence ? (
        <p>{silence}</p>
      ) : (
        <Form of={entry}>
          <Line name="title" label="Your question, in a line" required autoFocus />
          <Line name="text" label="What others need to know to answer it" area required hint="Markdown" />
          <p className="text-[13px] text-soft">
            Everybody who sees {name} reads it. They are told that a developer asks, and not who or for which
            organisation. Never put a key into it.
          </p>
          <Ends onLeave={onClose}>
            <Send>Ask it</Send>
          </Ends>
        </Form>
      )}
    </Dialog>
  );
}
