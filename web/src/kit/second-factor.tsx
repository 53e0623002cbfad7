import { type UseQueryOptions, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Dialog, Trouble, Waiting, WordButton } from "./controls";
import { Line } from "./fields";
import { Ends, Form, Refused, Send, useEntry } from "./form";
import { dayAndYear, plural } from "./format";
import { Code } from "./signing-in";

type State = { on: boolean; since: string | null; recovery_left: number };
type Begun = { secret: string; address: string; picture: string };
type Codes = { codes: string[] };
type Proof = { password: string; code: string };
type Props = {
  /** The query of one's own second factor. */
  own: UseQueryOptions<State, Error, State, readonly unknown[]>;
  begin: (typed: { password: string }) => Promise<Begun>;
  confirm: (typed: { code: string }) => Promise<Codes>;
  renew: (typed: Proof) => Promise<Codes>;
  end: (typed: Proof) => Promise<unknown>;
};

/** One's own second factor: turned on with a picture for the program that makes codes, and off again. */
export function SecondFactor({ own, begin, confirm, renew, end }: Props) {
  const state = useQuery(own);
  const [begun, setBegun] = useState<Begun | null>(null);
  const [doing, setDoing] = useState<"renew" | "end" | null>(null);
  const [codes, setCodes] = useState<string[] | null>(null);
  const shown = async (made: Codes) => {
    setBegun(null);
    setDoing(null);
    setCodes(made.codes);
    await state.refetch();
  };
  const of = state.data;
  return (
    <section className="mt-8 max-w-[760px]" aria-label="A second factor">
      <h2 className="mb-1 text-[20px]">A second factor</h2>
      <Trouble error={state.error} />
      {state.isPending && <Waiting words="Looking whether you have one" />}
      {of && !of.on && (
        <p className="mb-3 max-w-[68ch] text-soft">
          Besides your password, a code is then asked for that a program on your telephone shows. Whoever
          learns the password cannot sign in with it alone.
        </p>
      )}
      {of && !of.on && !begun && <Begin begin={begin} onBegun={setBegun} />}
      {begun && <Confirm begun={begun} confirm={confirm} onMade={shown} />}
      {of?.on && (
        <p>
          A code is asked for when you sign in, since {of.since && dayAndYear(of.since)};{" "}
          {of.recovery_left === 0
            ? "no recovery code is left"
            : `${plural(of.recovery_left, "recovery code")}`}
          {of.recovery_left > 0 && (of.recovery_left === 1 ? " is left" : " are left")}.{" "}
          <WordButton className="mr-3" onClick={() => setDoing("renew")}>
            make other recovery codes
          </WordButton>
          <WordButton onClick={() => setDoing("end")}>turn it off</WordButton>
        </p>
      )}
      {doing === "renew" && (
        <Proven
          title="Other recovery codes"
          words="Those you have are good no more from then on."
          verb="Make them"
          send={renew}
          done={shown}
          onClose={() => setDoing(null)}
        />
      )}
      {doing === "end" && (
        <Proven
          title="Turn the second factor off"
          words="From then on the password alone opens your account."
          verb="Turn it off"
          send={end}
          done={async () => {
            setDoing(null);
            await state.refetch();
          }}
          onClose={() => setDoing(null)}
        />
      )}
      {codes && <RecoveryCodes codes={codes} onClose={() => setCodes(null)} />}
    </section>
  );
}

function Begin({ begin, onBegun }: { begin: Props["begin"]; onBegun: (begun: Begun) => void }) {
  const entry = useEntry({ start: { password: "" }, send: begin, done: onBegun, afresh: true });
  return (
    <Form of={entry} className="max-w-[420px]">
      <Line
        name="password"
        label="Your password, to begin"
        type="password"
        autoComplete="current-password"
        required
      />
      <Refused />
      <Send main={false} className="mt-1">
        Begin
      </Send>
    </Form>
  );
}

function Confirm({
  begun,
  confirm,
  onMade,
}: {
  begun: Begun;
  confirm: Props["confirm"];
  onMade: (made: Codes) => void;
}) {
  const entry = useEntry({ start: { code: "" }, send: confirm, done: onMade });
  return (
    <div className="flex flex-wrap items-start gap-x-8 gap-y-3">
      <img src={begun.picture} alt="The secret, as a QR code" className="w-44" />
      <Form of={entry} className="max-w-[420px] flex-1 basis-72">
        <p className="mb-3">
          Have your program for codes (TOTP) read the picture, or type the secret into it:{" "}
          <code data-testid="totp-secret" className="font-mono text-[13px] break-all">
            {begun.secret}
          </code>
        </p>
        <Line name="code" label="The code it shows now" autoComplete="one-time-code" required autoFocus />
        <Refused />
        <Send className="mt-1">Turn it on</Send>
      </Form>
    </div>
  );
}

/** Something that takes the password and a code. */
function Proven<R>({
  title,
  words,
  verb,
  send,
  done,
  onClose,
}: {
  title: string;
  words: string;
  verb: string;
  send: (typed: Proof) => Promise<R>;
  done: (answer: R) => unknown;
  onClose: () => void;
}) {
  const entry = useEntry({ start: { password: "", code: "" }, send, done });
  return (
    <Dialog open onClose={onClose} title={title}>
      <p className="mb-3">{words}</p>
      <Form of={entry}>
        <Line
          name="password"
          label="Password"
          type="password"
          autoComplete="current-password"
          required
          autoFocus
        />
        <Code />
        <Ends leave="Leave it as it is" onLeave={onClose}>
          <Send>{verb}</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function RecoveryCodes({ codes, onClose }: { codes: string[]; onClose: () => void }) {
  const [copied, setCopied] = useState(false);
  return (
    <Dialog open onClose={onClose} title="Your recovery codes">
      <p>
        They are shown this once. Each is good once in place of a code, for when the program is lost: keep
        them apart from it.
      </p>
      <ul
        data-testid="recovery-codes"
        className="my-3 grid grid-cols-2 gap-x-8 gap-y-1 font-mono text-[14px]"
      >
        {codes.map((code) => (
          <li key={code}>{code}</li>
        ))}
      </ul>
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={() => navigator.clipboard.writeText(codes.join("\n")).then(() => setCopied(true))}>
          {copied ? "Copied" : "Copy them"}
        </Button>
        <Button main onClick={onClose}>
          I have kept them
        </Button>
      </div>
    </Dialog>
  );
}
