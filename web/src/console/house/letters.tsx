import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { letterInFull, me, STALE } from "../../api/queries/house";
import { useAddress } from "../../kit/address";
import { Choose } from "../../kit/choose";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { dayAndMinute, plural } from "../../kit/format";
import { Listing } from "../../kit/list";
import { Aside, Page } from "../frame";
import { useList } from "../list";
import { isOne } from "../roles";
import { Letter } from "./letter";

type Row = Console["LetterView"];

const STATES = [
  ["", "in whatever state"],
  ["waiting", "that wait"],
  ["sent", "that were sent"],
  ["failed", "that failed"],
] as const;
const RESENDERS = ["product manager", "operations", "owner"] as const;

/** The mail log: every letter, and what became of it. */
export function Letters() {
  const { search, change } = useAddress();
  const [open, setOpen] = useState<number | null>(null);
  const state = search.get("state") ?? "";
  const kind = search.get("kind") ?? "";
  const list = useList(
    "/letters",
    (query) => api.get("/letters", { params: { query: { ...query, state, kind } } }),
    {
      fixed: new URLSearchParams({ ...(state && { state }), ...(kind && { kind }) }).toString(),
      every: 5_000,
    },
  );
  return (
    <Page
      title="Mail log"
      sub="Every letter, and what became of it. One that the mail server does not take is tried again for a day and a half."
      margin={
        <Aside title="What letters say">
          <p>
            Their words are{" "}
            <Link className="figure-link" to="/house/notices">
              notices
            </Link>
            . What a letter with a link to somebody’s account says is shown to nobody here, and kept nowhere
            once it was sent.
          </p>
        </Aside>
      }
    >
      <Listing
        list={list}
        id={(letter) => letter.id}
        words="Only letters to, or about"
        actions={
          <div className="flex items-end gap-4">
            {kind && (
              <span className="text-[13px] text-soft">
                of “{kind}” <WordButton onClick={() => change({ kind: null })}>all kinds</WordButton>
              </span>
            )}
            <Choose
              quiet
              className="w-[170px]"
              label="Which letters"
              value={state}
              choices={STATES}
              onChange={(value) => change({ state: value || null })}
            />
          </div>
        }
        reading="Reading the letters"
        empty={state || kind ? "No letter is like that." : "No letter was written yet."}
        more="Earlier letters"
        open={(letter) => setOpen(letter.id)}
        columns={[
          { head: "Written", cell: (letter) => dayAndMinute(letter.written_at), look: "whitespace-nowrap" },
          {
            head: "Letter",
            cell: (letter) => (
              <>
                <button type="button" className="block text-left" onClick={() => setOpen(letter.id)}>
                  <span className="figure-link">{letter.subject}</span>
                </button>
                <div className="text-[12px] text-soft">{letter.kind}</div>
              </>
            ),
          },
          { head: "To", cell: (letter) => letter.recipient, look: "break-words" },
          {
            head: "What became of it",
            cell: became,
            look: (letter) => `whitespace-nowrap ${letter.why ? "text-madder" : ""}`,
          },
        ]}
      />
      {open !== null && <One id={open} onClose={() => setOpen(null)} />}
    </Page>
  );
}

/** What became of a letter, in words. */
function became(of: Row): string {
  if (of.sent_at) return `sent ${dayAndMinute(of.sent_at)}`;
  if (of.state === "failed") return "failed";
  if (of.gave_up) return `given up after ${plural(of.tries, "try", "tries")}`;
  if (of.why) return `tried ${of.tries === 1 ? "once" : plural(of.tries, "time")}`;
  return "on its way";
}

function One({ id, onClose }: { id: number; onClose: () => void }) {
  const stale = useStale();
  const of = useQuery(letterInFull(id));
  const may = isOne(useQuery(me()).data?.roles, RESENDERS);
  const again = useMutation({
    mutationFn: () => api.post("/letters/{letter_id}/again", { params: { path: { letter_id: id } } }),
    onSuccess: () => stale(STALE.letter),
  });
  const letter = of.data?.letter;
  return (
    <Dialog wide open onClose={onClose} title={letter?.subject ?? "A letter"}>
      <Trouble error={of.error} />
      {of.isPending && <Waiting words="Reading the letter" />}
      {of.data && letter && (
        <>
          <p className="text-soft">
            To {letter.recipient}, written {dayAndMinute(letter.written_at)}; {became(letter)}.
          </p>
          {letter.why && (
            <p className="mt-1 break-words text-madder">
              {letter.why}
              {letter.next_at && ` It is tried next ${dayAndMinute(letter.next_at)}.`}
            </p>
          )}
          {letter.confidential ? (
            <p className="mt-2">What it says is for its recipient alone.</p>
          ) : (
            <Letter text={of.data.text} html={of.data.html} />
          )}
          {may && letter.why && (
            <div className="mt-3 text-right">
              <Button main disabled={again.isPending} onClick={() => again.mutate()}>
                Send it again
              </Button>
            </div>
          )}
          {again.isSuccess && (
            <p role="status" className="mt-2 text-soft">
              It is on its way again.
            </p>
          )}
          <Trouble error={again.error} />
        </>
      )}
    </Dialog>
  );
}
