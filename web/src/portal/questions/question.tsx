import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Portal } from "../../api/portal";
import { makeStale, showAnswer } from "../../api/queries/asking";
import { question as ofQuestion, STALE } from "../../api/queries/portal";
import { useAddress } from "../../kit/address";
import { Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Ends, Form, Refused, Send, useEntry } from "../../kit/form";
import { dayAndMinute } from "../../kit/format";
import { Prose } from "../../kit/prose";
import { useMe } from "../me";
import { useSilence } from "./silence";

type Question = Portal["QuestionView"];
type Post = Portal["PostView"];
/** What is changed or reported: the question, or one of its answers. */
type Doing = { what: "change" | "report"; post: Post; answer: number | null } | null;

/** One question with its answers, and what one can do about them. */
export function OneQuestion({ id }: { id: number }) {
  const { slug = "" } = useParams();
  const query = useQuery(ofQuestion(id));
  const back = (
    <Link className="figure-link text-[14px]" to={`/products/${slug}?view=questions`}>
      All questions
    </Link>
  );
  if (!query.data)
    return (
      <>
        {back}
        {query.error ? <Trouble error={query.error} /> : <Waiting words="Reading the question" />}
      </>
    );
  return (
    <>
      {back}
      <Shown of={query.data} />
    </>
  );
}

function useShow(id: number) {
  const queries = useQueryClient();
  return async (answer: Question) => {
    await showAnswer(queries, ofQuestion(id), answer);
    await makeStale(queries, STALE.question);
  };
}

function Shown({ of }: { of: Question }) {
  const queries = useQueryClient();
  const { change } = useAddress();
  const show = useShow(of.id);
  const [doing, setDoing] = useState<Doing>(null);
  const path = { question_id: of.id };
  const accept = useMutation({
    mutationFn: (answer_id: number | null) =>
      api.put("/questions/{question_id}/accepted", { params: { path }, body: { answer_id } }),
    onSuccess: show,
  });
  const follow = useMutation({
    mutationFn: (following: boolean) =>
      api.put("/questions/{question_id}/following", { params: { path }, body: { following } }),
    onSuccess: show,
  });
  const takeAnswerBack = useMutation({
    mutationFn: (answer_id: number) =>
      api.delete("/answers/{answer_id}", { params: { path: { answer_id } } }),
    onSuccess: show,
  });
  const takeBack = useMutation({
    mutationFn: () => api.delete("/questions/{question_id}", { params: { path } }),
    onSuccess: async () => {
      change({ question: null });
      await makeStale(queries, STALE.question);
    },
  });
  const me = useMe();
  const answered = of.answers.some((a) => a.hidden === null);
  const error = accept.error ?? follow.error ?? takeAnswerBack.error ?? takeBack.error;
  const word = (name: string, act: () => void) => (
    <WordButton className="mr-4" onClick={act}>
      {name}
    </WordButton>
  );
  return (
    <article aria-label={of.title} className="mt-2 max-w-[76ch]">
      <h2 className="text-[24px]">{of.title}</h2>
      <Text of={of.asked} verb="asked" />
      <p className="mt-1.5">
        {of.asked.text !== null &&
          word("change it", () => setDoing({ what: "change", post: of.asked, answer: null }))}
        {of.asked.text !== null &&
          of.asked.hidden === null &&
          !answered &&
          word("take it back", () => takeBack.mutate())}
        {of.asked.may_report && (
          <Report
            post={of.asked}
            onReport={() => setDoing({ what: "report", post: of.asked, answer: null })}
          />
        )}
        {me.name && me.let_in && (
          <label className="inline-flex items-baseline gap-1.5 text-[13px]">
            <input
              type="checkbox"
              className="accent-(--portal-main)"
              checked={follow.isPending ? follow.variables : of.following}
              disabled={follow.isPending}
              onChange={(e) => follow.mutate(e.target.checked)}
            />
            tell me of new answers
          </label>
        )}
      </p>
      <Trouble error={error} />
      <ol aria-label="Answers" className="mt-4">
        {of.answers.map((a) => (
          <li
            key={a.id}
            className={`mb-4 border-l-[3px] pl-4 ${a.official || a.accepted ? "border-(--portal-accent)" : "border-(--portal-line)"} ${a.official ? "bg-(--portal-tint) py-2.5 pr-3" : ""}`}
          >
            <Text of={a} verb="answered" helped={a.accepted} />
            <p className="mt-1.5">
              {of.may_accept &&
                a.hidden === null &&
                (a.accepted
                  ? word("it did not help after all", () => accept.mutate(null))
                  : word("this helped", () => accept.mutate(a.id)))}
              {a.text !== null &&
                word("change it", () => setDoing({ what: "change", post: a, answer: a.id }))}
              {a.text !== null &&
                a.hidden === null &&
                word("take it back", () => takeAnswerBack.mutate(a.id))}
              {a.may_report && (
                <Report post={a} onReport={() => setDoing({ what: "report", post: a, answer: a.id })} />
              )}
            </p>
          </li>
        ))}
      </ol>
      {of.answers.length === 0 && <p className="mb-4 text-soft">Nobody has answered yet.</p>}
      <Answer of={of} />
      {doing?.what === "change" && <Change of={of} doing={doing} onClose={() => setDoing(null)} />}
      {doing?.what === "report" && <ReportIt of={of} doing={doing} onClose={() => setDoing(null)} />}
    </article>
  );
}

function Report({ post, onReport }: { post: Post; onReport: () => void }) {
  if (post.reported) return <span className="mr-4 text-[13px] text-soft">reported by your organisation</span>;
  return (
    <WordButton className="mr-4" onClick={onReport}>
      report it
    </WordButton>
  );
}

/** A text, who wrote it, and where it stands. */
function Text({ of, verb, helped = false }: { of: Post; verb: string; helped?: boolean }) {
  return (
    <>
      <p className="text-[13px] text-soft first-letter:uppercase">
        {helped && <span className="mr-2 font-semibold text-(--portal-main)">This helped.</span>}
        <span className={of.official ? "font-semibold text-ink" : ""}>{of.by}</span> {verb} on{" "}
        {dayAndMinute(of.at)}
        {of.changed_at && `, changed on ${dayAndMinute(of.changed_at)}`}
      </p>
      {of.hidden !== null && (
        <p role="status" className="my-1 border-l-[3px] border-madder pl-2.5 text-[14px]">
          Hidden from others. {of.hidden}
        </p>
      )}
      <div className="mt-1">
        <Prose html={of.html} />
      </div>
    </>
  );
}

function Answer({ of }: { of: Question }) {
  const show = useShow(of.id);
  const silence = useSilence();
  const entry = useEntry({
    start: { text: "" },
    send: (body) =>
      api.post("/questions/{question_id}/answers", { params: { path: { question_id: of.id } }, body }),
    afresh: true,
    done: show,
  });
  if (!of.may_answer) return <p className="text-[14px] text-soft">{silence}</p>;
  return (
    <Form of={entry}>
      <Line name="text" label="Your answer" area required hint="Markdown" />
      <Refused />
      <Send main={false}>Answer it</Send>
    </Form>
  );
}

function Change({ of, doing, onClose }: { of: Question; doing: NonNullable<Doing>; onClose: () => void }) {
  const show = useShow(of.id);
  const { answer } = doing;
  const entry = useEntry({
    start: { title: of.title, text: doing.post.text ?? "" },
    send: ({ title, text }) =>
      answer === null
        ? api.put("/questions/{question_id}", {
            params: { path: { question_id: of.id } },
            body: { title, text },
          })
        : api.put("/answers/{answer_id}", { params: { path: { answer_id: answer } }, body: { text } }),
    done: async (shown) => {
      await show(shown);
      onClose();
    },
  });
  return (
    <Dialog wide open onClose={onClose} title={answer === null ? "Your question" : "Your answer"}>
      <Form of={entry}>
        {answer === null && <Line name="title" label="Your question, in a line" required />}
        <Line name="text" label="Text" area required hint="Markdown" />
        <Ends onLeave={onClose}>
          <Send>Save</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function ReportIt({ of, doing, onClose }: { of: Question; doing: NonNullable<Doing>; onClose: () => void }) {
  const show = useShow(of.id);
  const me = useMe();
  const entry = useEntry({
    start: { reason: "" },
    send: ({ reason }) =>
      api.post("/questions/{question_id}/reports", {
        params: { path: { question_id: of.id } },
        body: { reason, answer_id: doing.answer },
      }),
    done: async (shown) => {
      await show(shown);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title="Report it">
      <Form of={entry}>
        <Line name="reason" label="Why it should not stand there" area required autoFocus />
        <p className="text-[13px] text-soft">
          {me.look.provider} reads this and decides. Whoever wrote it is not told who reported it.
        </p>
        <Ends onLeave={onClose}>
          <Send>Report it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
