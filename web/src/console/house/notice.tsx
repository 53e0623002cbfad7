import { useMutation, useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Console } from "../../api/console";
import { Problem } from "../../api/problem";
import { useStale } from "../../api/queries/asking";
import { me, noticeKind, noticePreview, STALE } from "../../api/queries/house";
import { Button, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Line, Tick } from "../../kit/fields";
import { Form, Refused, Send, useEntry, useTyped } from "../../kit/form";
import { dayAndMinute } from "../../kit/format";
import { Aside, Page } from "../frame";
import { isOne } from "../roles";
import { Letter } from "./letter";
import { said, ways } from "./notices";

type Wording = Console["NoticeWording"];
type Typed = { words: Console["Words"]; by_mail: boolean; own_html: boolean };

/** Who changes the words of notices. */
const CHANGERS = ["product manager", "owner"] as const;

/** One kind of notice: its words, and how a letter reads in them. */
export function NoticePage() {
  const { name = "" } = useParams();
  const of = useQuery(noticeKind(name));
  const may = isOne(useQuery(me()).data?.roles, CHANGERS);
  const [kept, setKept] = useState(false);
  return (
    <Page
      title={of.data ? said(of.data.kind.kind) : "A notice"}
      sub={of.data && `Goes to ${of.data.kind.to}: ${ways(of.data.kind)}.`}
      margin={
        of.data && (
          <>
            <Aside title="What it can speak of">
              <dl>
                {Object.entries(of.data.fields).map(([field, value]) => (
                  <div key={field} className="mb-1">
                    <dt className="font-mono text-[12px]">{`{{ ${field} }}`}</dt>
                    <dd className="break-words text-soft">{value || "nothing, the last time"}</dd>
                  </div>
                ))}
              </dl>
            </Aside>
            <Aside title="What is taken">
              <p>
                Fields as above; {"{% if note %}"} … {"{% endif %}"} for what is said only where there is a
                note; {"{% for one in changes %}"} … {"{% endfor %}"} for each of several. In the text,
                Markdown is taken as well: it is what the HTML is made from.
              </p>
            </Aside>
            {of.data.changed_at && (
              <Aside title="Last changed">
                <p className="text-soft">
                  by {of.data.changed_by}, {dayAndMinute(of.data.changed_at)}; what it was is on{" "}
                  <Link className="figure-link" to="/record?thing=notice">
                    the record
                  </Link>
                </p>
              </Aside>
            )}
          </>
        )
      }
    >
      <Trouble error={of.error} />
      {of.isPending && <Waiting words="Reading its words" />}
      {of.data?.kind.trouble && (
        <p role="alert" className="mt-3 text-madder">
          These words could not be filled in the last time, and those that ship were sent in their place:{" "}
          {of.data.kind.trouble}
        </p>
      )}
      {of.data && (
        <Change key={of.data.edition} of={of.data} may={may} kept={kept} onKept={() => setKept(true)} />
      )}
    </Page>
  );
}

type ChangeProps = { of: Wording; may: boolean; kept: boolean; onKept: () => void };

function Change({ of, may, kept, onKept }: ChangeProps) {
  const stale = useStale();
  const { name, group } = of.kind;
  const start: Typed = { words: of.words, by_mail: of.kind.by_mail, own_html: of.words.html !== "" };
  const params = { path: { name }, header: { "if-match": `"${of.edition}"` } };
  const keep = useEntry({
    start,
    send: ({ words, by_mail, own_html }) => {
      const wanted = { ...words, html: own_html ? words.html : "" };
      const shipped = (["subject", "text", "html"] as const).every(
        (part) => wanted[part] === of.shipped[part],
      );
      return api.put("/notice-kinds/{name}", { params, body: { words: shipped ? null : wanted, by_mail } });
    },
    done: () => {
      onKept();
      return stale(STALE.notice);
    },
  });
  const back = useMutation({
    mutationFn: () =>
      api.put("/notice-kinds/{name}", { params, body: { words: null, by_mail: of.kind.by_mail } }),
    onSuccess: () => stale(STALE.notice),
  });
  return (
    <Form of={keep} className="mt-4 grid grid-cols-2 gap-x-7">
      <fieldset disabled={!may} className="min-w-0">
        <legend className="sr-only">Its words</legend>
        <Line name="words.subject" label="Subject" required />
        <Line name="words.text" label="Text" area rows={14} required />
        <Html />
        {group && <Tick name="by_mail">by mail as well, to those who want it</Tick>}
        <Refused />
        <Trouble error={back.error} />
        {may ? (
          <div className="mt-2 flex items-baseline gap-4">
            <Send>Keep these words</Send>
            {kept && !keep.form.formState.isDirty && (
              <span role="status" className="text-soft">
                Kept.
              </span>
            )}
            {of.kind.own && (
              <WordButton disabled={back.isPending} onClick={() => back.mutate()}>
                back to the words that ship
              </WordButton>
            )}
          </div>
        ) : (
          <p className="text-[13px] text-soft">Product managers and owners of the house change them.</p>
        )}
      </fieldset>
      <Shown name={name} may={may} />
    </Form>
  );
}

function Html() {
  const { own_html } = useTyped<Typed>();
  return (
    <>
      <Tick name="own_html">HTML of its own, in place of what is made from the text</Tick>
      {own_html && <Line name="words.html" label="HTML of the letter's body" area rows={8} />}
    </>
  );
}

/** How a letter reads with what is typed. */
function Shown({ name, may }: { name: string; may: boolean }) {
  const { words, own_html } = useTyped<Typed>();
  const [plain, setPlain] = useState(false);
  const wanted = { ...words, html: own_html ? words.html : "" };
  const asked = useDeferredValue(JSON.stringify(wanted));
  const shown = useQuery(noticePreview(name, JSON.parse(asked)));
  const test = useMutation({
    mutationFn: () => api.post("/notice-kinds/{name}/test", { params: { path: { name } }, body: wanted }),
  });
  const wrong = shown.error instanceof Problem ? shown.error.refusals[0] : undefined;
  return (
    <section aria-label="As a letter" className="min-w-0">
      <div className="flex items-baseline gap-4 border-b border-line pb-1 text-[13px]">
        <h2 className="flex-1">As a letter</h2>
        <WordButton onClick={() => setPlain(!plain)}>
          {plain ? "read it as HTML" : "read it as text"}
        </WordButton>
      </div>
      {wrong && (
        <p role="status" className="mt-2 text-[13px] text-madder">
          {said(wrong.where)}: {wrong.what}
        </p>
      )}
      {!wrong && <Trouble error={shown.error} />}
      {shown.data && !shown.error && (
        <>
          <p className="mt-1 text-[12px] text-soft">
            {shown.data.when
              ? `With what the last one was about, ${dayAndMinute(shown.data.when)}`
              : "With something made up; none was sent yet"}
          </p>
          <p className="mt-1 font-semibold">{shown.data.subject}</p>
          <Letter text={shown.data.text} html={plain ? "" : shown.data.html} />
        </>
      )}
      {may && (
        <p className="mt-2 text-[13px]">
          <Button small disabled={test.isPending || !!wrong} onClick={() => test.mutate()}>
            Send it to me
          </Button>
          {test.data && (
            <span role="status" className="ml-3 text-soft">
              It is on its way to {test.data.email}.
            </span>
          )}
        </p>
      )}
      <Trouble error={test.error} />
    </section>
  );
}
