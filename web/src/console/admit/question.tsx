import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Console } from "../../api/console";
import { question as ofQuestion, STALE } from "../../api/queries/admit";
import { makeStale, showAnswer } from "../../api/queries/asking";
import { Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Ends, Form, Refused, Send, useEntry } from "../../kit/form";
import { dayAndMinute } from "../../kit/format";
import { Prose } from "../../kit/prose";
import { Aside, Page } from "../frame";
import { useOpened } from "../lately";
import { Markdown } from "../markdown";

type Question = Console["ModeratedQuestion"];
type Post = Console["ModeratedPost"];
/** What is hidden or changed: the question, or one of its answers. */
type Doing = { what: "hide" | "change"; post: Post; answer: number | null } | null;

const STANDING: Record<Question["standing"], string> = {
  "not answered": "Nobody has answered it.",
  answered: "It is answered; nobody has said yet whether that helped.",
  settled: "It is answered, and the answer helped.",
};

/** One question with everything in view: answer it, say what helped, and decide on what was reported. */
export function QuestionPage() {
  const { id } = useParams();
  const query = useQuery(ofQuestion(Number(id)));
  const of = query.data;
  useOpened(of?.title);
  if (!of)
    return (
      <Page title="Question">
        {query.error ? <Trouble error={query.error} /> : <Waiting words="Reading the question" />}
      </Page>
    );
  return <Shown key={of.id} of={of} />;
}

function useShow(id: number) {
  const queries = useQueryClient();
  return async (answer: Question) => {
    await showAnswer(queries, ofQuestion(id), answer);
    await makeStale(queries, STALE.question);
  };
}

function Shown({ of }: { of: Question }) {
  const show = useShow(of.id);
  const [doing, setDoing] = useState<Doing>(null);
  const params = { path: { question_id: of.id } };
  const accept = useMutation({
    mutationFn: (answer_id: number | null) =>
      api.put("/questions/{question_id}/accepted", { params, body: { answer_id } }),
    onSuccess: show,
  });
  const again = useMutation({
    mutationFn: (answer_id: number | null) =>
      api.post("/questions/{question_id}/show", { params, body: { answer_id } }),
    onSuccess: show,
  });
  const stands = useMutation({
    mutationFn: (answer_id: number | null) =>
      api.post("/questions/{question_id}/let-stand", { params, body: { answer_id } }),
    onSuccess: show,
  });
  const moderated = (post: Post, answer: number | null) => (
    <p className="mt-1">
      {answer !== null && post.state === "shown" && (
        <WordButton className="mr-4" onClick={() => accept.mutate(post.accepted ? null : answer)}>
          {post.accepted ? "it did not help after all" : "this helped"}
        </WordButton>
      )}
      {post.text !== null && (
        <WordButton className="mr-4" onClick={() => setDoing({ what: "change", post, answer })}>
          change it
        </WordButton>
      )}
      {post.state === "shown" ? (
        <WordButton className="mr-4" onClick={() => setDoing({ what: "hide", post, answer })}>
          hide it
        </WordButton>
      ) : (
        <WordButton className="mr-4" onClick={() => again.mutate(answer)}>
          show it again
        </WordButton>
      )}
      {post.reports.length > 0 && <WordButton onClick={() => stands.mutate(answer)}>let it stand</WordButton>}
    </p>
  );
  const reported = [of.asked, ...of.answers].filter((post) => post.reports.length > 0);
  return (
    <Page
      title={of.title}
      sub={
        <>
          About{" "}
          <Link className="figure-link" to={`/compose/products/${of.product_id}`}>
            {of.product}
          </Link>
          . {STANDING[of.standing]}
        </>
      }
      margin={
        <>
          <Aside title="Who reads it">
            <p className="text-soft">
              Everybody who sees {of.product} in a portal. An answer of yours is read as the provider’s; of
              developers others read neither the name nor the organisation.
            </p>
          </Aside>
          <Aside title="Reports">
            {reported.length === 0 ? (
              <p className="text-soft">None waits for a decision.</p>
            ) : (
              reported.flatMap((post) =>
                post.reports.map((r) => (
                  <p key={r.id} className="mb-2">
                    <Link className="figure-link" to={`/admit/consumers/${r.consumer_id}`}>
                      {r.consumer}
                    </Link>{" "}
                    ({r.by}) on what {post.official ? "we" : post.by} wrote: {r.reason}
                    <span className="block text-soft">{dayAndMinute(r.reported_at)}</span>
                  </p>
                )),
              )
            )}
          </Aside>
        </>
      }
    >
      <Trouble error={accept.error ?? again.error ?? stands.error} />
      <div className="mt-3 max-w-[76ch]">
        <Text of={of.asked} verb="asked" />
        {moderated(of.asked, null)}
        <ol aria-label="Answers" className="mt-4">
          {of.answers.map((a) => (
            <li
              key={a.id}
              className={`mb-4 border-l-[3px] pl-4 ${a.reports.length > 0 ? "border-madder" : a.official ? "border-kelp" : "border-line"}`}
            >
              <Text of={a} verb="answered" />
              {moderated(a, a.id)}
            </li>
          ))}
        </ol>
        {of.asked.state === "shown" && <Answer of={of} />}
      </div>
      {doing?.what === "hide" && <Hide of={of} doing={doing} onClose={() => setDoing(null)} />}
      {doing?.what === "change" && <Change of={of} doing={doing} onClose={() => setDoing(null)} />}
    </Page>
  );
}

function Text({ of, verb }: { of: Post; verb: string }) {
  return (
    <>
      <p className="text-[13px] text-soft">
        {of.accepted && <span className="mr-2 font-semibold text-kelp">This helped.</span>}
        <span className="text-ink">{of.by}</span>
        {of.consumer_id !== null ? (
          <>
            {" "}
            of{" "}
            <Link className="figure-link" to={`/admit/consumers/${of.consumer_id}`}>
              {of.consumer}
            </Link>
          </>
        ) : (
          ", for the provider,"
        )}{" "}
        {verb} on {dayAndMinute(of.at)}
        {of.changed_at && `, changed on ${dayAndMinute(of.changed_at)}`}
      </p>
      {of.state === "hidden" && (
        <p className="my-1 border-l-[3px] border-madder pl-2.5">Hidden from others. {of.hidden_why}</p>
      )}
      <div className="mt-1">
        <Prose html={of.html} />
      </div>
    </>
  );
}

function Answer({ of }: { of: Question }) {
  const show = useShow(of.id);
  const entry = useEntry({
    start: { text: "" },
    send: (body) =>
      api.post("/questions/{question_id}/answers", { params: { path: { question_id: of.id } }, body }),
    afresh: true,
    done: show,
  });
  const { text } = entry.form.watch();
  return (
    <Form of={entry}>
      <Markdown name="text" label="Your answer, for the provider" value={text} />
      <Refused />
      <Send>Answer it</Send>
    </Form>
  );
}

function Hide({ of, doing, onClose }: { of: Question; doing: NonNullable<Doing>; onClose: () => void }) {
  const show = useShow(of.id);
  const entry = useEntry({
    start: { reason: "" },
    send: ({ reason }) =>
      api.post("/questions/{question_id}/hide", {
        params: { path: { question_id: of.id } },
        body: { reason, answer_id: doing.answer },
      }),
    done: async (shown) => {
      await show(shown);
      onClose();
    },
  });
  const official = doing.post.official;
  return (
    <Dialog
      open
      onClose={onClose}
      title={doing.answer === null ? "Hide the question and its answers" : "Hide this answer"}
    >
      <Form of={entry}>
        <Line
          name="reason"
          label={official ? "Why" : `Why; ${doing.post.by} reads it`}
          area
          required
          autoFocus
        />
        <Ends onLeave={onClose}>
          <Send>Hide it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function Change({ of, doing, onClose }: { of: Question; doing: NonNullable<Doing>; onClose: () => void }) {
  const show = useShow(of.id);
  const entry = useEntry({
    start: { text: doing.post.text ?? "" },
    send: (body) =>
      api.put("/answers/{answer_id}", { params: { path: { answer_id: doing.answer ?? 0 } }, body }),
    done: async (shown) => {
      await show(shown);
      onClose();
    },
  });
  return (
    <Dialog wide open onClose={onClose} title="The provider’s answer">
      <Form of={entry}>
        <Markdown name="text" label="Answer" value={entry.form.watch().text} />
        <Ends onLeave={onClose}>
          <Send>Save</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
