import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Portal } from "../../api/portal";
import { Problem, said, sentence } from "../../api/problem";
import { useAddress } from "../../kit/address";
import { Button, Field, Waiting, WordButton } from "../../kit/controls";
import { count, dayAndMinute, listed, plural } from "../../kit/format";
import { useMe } from "../me";
import { Answered } from "./answered";
import { Fill } from "./fill";
import { isWithout, type ProofChosen, useProof, WORDS, wayName } from "./proof";
import { begun, missing, type Request, requestOf } from "./request";
import { type Answer, reason, sendKnown } from "./sending";
import { Snippet } from "./snippet";
import { useTries } from "./tries";

type Operation = Portal["OperationView"];
type Product = Portal["Storefront"];
/** So many calls may be sent to see a limit work, and so many are under way at once. */
const MOST = 500;
const LANES = 6;

/** A call of an operation: as a program in the reader's language, and tried from here. */
export function Calling({ one, product }: { one: Operation; product: Product }) {
  const { look } = useMe();
  const { search, change } = useAddress();
  const [values, setValues] = useState(() => begun(one));
  const proof = useProof(one, product.name);
  const trying = search.get("try") === "yes";
  const request = requestOf(one, values, proof.written, look.gateway);
  return (
    <section aria-label="A call of it">
      <div className={trying ? "grid gap-x-12 gap-y-3 lg:grid-cols-2" : ""}>
        {trying && proof.coming && <Waiting words="Reading your applications" />}
        {trying && !proof.coming && (
          <Try
            one={one}
            product={product}
            proof={proof}
            wanting={[...missing(one, values), ...(proof.wanting ? [proof.wanting] : [])]}
            made={(shown) => requestOf(one, values, shown, look.gateway)}
          >
            <Fill one={one} values={values} onChange={setValues} />
          </Try>
        )}
        <div className={trying ? "min-w-0 lg:order-2" : "max-w-[832px]"}>
          <Snippet of={request} />
          {!trying && (
            <Button main className="mt-2" onClick={() => change({ try: "yes" })}>
              Try this call
            </Button>
          )}
        </div>
      </div>
    </section>
  );
}

type Sent = { request: Request; answer: Answer };

function Try({
  one,
  product,
  proof,
  wanting,
  made,
  children,
}: {
  one: Operation;
  product: Product;
  proof: ProofChosen;
  wanting: string[];
  made: (proof: Awaited<ReturnType<ProofChosen["ready"]>>) => Request;
  children: React.ReactNode;
}) {
  const { change } = useAddress();
  const history = useTries();
  const me = useMe();
  const [sent, setSent] = useState<Sent | null>(null);
  const [trouble, setTrouble] = useState("");
  const [running, setRunning] = useState(false);
  const [run, setRun] = useState<string | null>(null);
  const [most, setMost] = useState("100");
  const stop = useRef<AbortController | null>(null);
  useEffect(() => () => stop.current?.abort(), []); // nothing is sent from a page that was left
  const calls = Number(most);
  const counted = Number.isInteger(calls) && calls >= 1 && calls <= MOST;

  const begin = async (what: (request: Request, signal: AbortSignal) => Promise<void>) => {
    if (wanting.length > 0) return setTrouble(`Say ${listed(wanting)} first.`);
    const stopped = new AbortController();
    stop.current = stopped;
    setTrouble("");
    setRun(null);
    setRunning(true);
    try {
      await what(made(await proof.ready()), stopped.signal);
    } catch (error) {
      if (!stopped.signal.aborted) setTrouble(troubleWords(error));
    } finally {
      setRunning(false);
    }
  };

  const show = (request: Request, answer: Answer, before = 0) => {
    setSent({ request, answer });
    history.add({
      at: new Date().toISOString(),
      slug: product.slug,
      operation: one.line.id,
      what: `${one.line.method} ${new URL(request.url).pathname}`,
      status: answer.status,
      took: Math.round(answer.took),
      // A stranger's call has no receipt that its caller could open.
      call: request.secret && me.name ? answer.call : "",
      before,
    });
  };

  const once = () =>
    begin(async (request, signal) => show(request, await sendKnown(request, proof.madeAt, signal)));

  /** Send up to so many calls, a few at a time, until one is refused. */
  const untilRefused = () =>
    begin(async (request, signal) => {
      const state: { sent: number; served: number; last: Answer | null; refused: Answer | null } = {
        sent: 0,
        served: 0,
        last: null,
        refused: null,
      };
      const next = async () => {
        state.sent += 1;
        const answer = await sendKnown(request, proof.madeAt, signal);
        if (REFUSED.includes(answer.status)) state.refused ??= answer;
        else {
          state.served += 1;
          state.last = answer;
          setRun(`${answeredWords(state.served)} …`);
        }
      };
      const lane = async () => {
        while (state.sent < calls && state.refused === null && !signal.aborted) await next();
      };
      await next(); // a key that was just made is known from here on
      await Promise.all(Array.from({ length: LANES }, lane));
      const { refused, last, served } = state;
      if (refused) show(request, refused, served);
      else if (last) show(request, last, served - 1);
      const end = refused ? `Then one was refused: ${await reason(refused)}` : "None was refused.";
      setRun(`${answeredWords(served)} ${end}`);
    });

  return (
    <>
      <form
        noValidate
        className="min-w-0 lg:order-1"
        onSubmit={(e) => {
          e.preventDefault();
          once();
        }}
      >
        {children}
        <Who proof={proof} one={one} product={product} />
        {trouble && (
          <p role="alert" className="mb-2 text-[13.5px] text-madder">
            {trouble}
          </p>
        )}
        <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
          <Button main type="submit" disabled={running}>
            {sent ? "Send it again" : "Send the call"}
          </Button>
          <span className="text-[13.5px]">
            or{" "}
            <WordButton disabled={running || !counted} onClick={untilRefused}>
              send until one is refused
            </WordButton>
            , at most{" "}
            <input
              aria-label="At most so many calls"
              aria-invalid={!counted || undefined}
              className="w-12 border-b border-dashed border-line bg-transparent text-right"
              inputMode="numeric"
              value={most}
              onChange={(e) => setMost(e.target.value)}
            />
          </span>
          {running && <WordButton onClick={() => stop.current?.abort()}>stop</WordButton>}
          <WordButton className="ml-auto" onClick={() => change({ try: null })}>
            put it away
          </WordButton>
        </div>
        {!counted && <p className="text-[13px] text-madder">From 1 to {MOST} calls can be sent.</p>}
        {run && (
          <p role="status" className="mt-2 max-w-[64ch]">
            {run}
          </p>
        )}
      </form>
      {sent && (
        <div className="min-w-0 lg:order-3 lg:col-span-2">
          <Answered request={sent.request} answer={sent.answer} />
        </div>
      )}
      {history.tries.length > 0 && (
        <details className="text-[13.5px] lg:order-4 lg:col-span-2">
          <summary className="cursor-pointer">
            {plural(history.tries.length, "try", "tries")} of yours in this browser
          </summary>
          <ul className="mt-1">
            {history.tries.map((tried) => (
              <li key={tried.call || tried.at} className="flex flex-wrap gap-x-4 py-0.5">
                <span className="text-soft">{dayAndMinute(tried.at)}</span>
                <Link
                  className="figure-link font-mono text-[12.5px]"
                  to={`/products/${tried.slug}?view=operations&operation=${tried.operation}&try=yes`}
                >
                  {tried.what}
                </Link>
                <span>
                  {tried.before > 0 && `after ${count(tried.before)} more, `}answered {tried.status} in{" "}
                  {tried.took} ms
                </span>
                {tried.call && (
                  <Link className="figure-link" to={`/usage?call=${tried.call}`}>
                    receipt
                  </Link>
                )}
              </li>
            ))}
          </ul>
          <WordButton className="mt-1" onClick={history.forget}>
            forget them
          </WordButton>
        </details>
      )}
    </>
  );
}

const LABELS: Record<string, string> = {
  key: "The key",
  basic: "The secret",
  client: "The secret",
  token: "The token",
};

/** Who calls, as a sentence; with a place for what has to be typed. */
function Who({ proof, one, product }: { proof: ProofChosen; one: Operation; product: Product }) {
  const { sandbox, issuers } = one;
  const me = useMe();
  const { way, app } = proof;
  const without = isWithout(way);
  return (
    <fieldset className="mb-3">
      <legend className="sr-only">Who calls</legend>
      <p>
        Call{" "}
        {proof.apps.length > 0 && !without && (
          <>
            as{" "}
            <select
              aria-label="Application"
              className="border-b border-dashed border-line bg-transparent"
              value={app?.id}
              onChange={(e) => proof.choose(Number(e.target.value))}
            >
              {proof.apps.map((one) => (
                <option key={one.id} value={one.id}>
                  {one.name}
                </option>
              ))}
            </select>{" "}
          </>
        )}
        with{" "}
        <select
          aria-label="Credential"
          className="max-w-full border-b border-dashed border-line bg-transparent"
          value={wayName(way)}
          onChange={(e) => proof.setWay(e.target.value)}
        >
          {proof.ways.map((one) => (
            <option key={wayName(one)} value={wayName(one)}>
              {WORDS[wayName(one)]}
            </option>
          ))}
        </select>
        .
      </p>
      {way.shows === "sandbox" && (
        <p className="text-[13px] text-soft">
          It asks for the sandbox, which answers so many calls an hour from your address.
        </p>
      )}
      {way.shows === "nothing" && (
        <p className="text-[13px] text-soft">
          The call is live. It counts for your address, under the limits of {one.open_under}, and costs
          nothing.
        </p>
      )}
      {!way.hour && !without && (
        <Field
          label={LABELS[way.shows] ?? ""}
          type="password"
          autoComplete="off"
          value={proof.typed}
          onChange={proof.setTyped}
          hint="It goes from this page to the gateway alone. A live one makes live calls: they count, and cost what they cost."
        />
      )}
      {app && !proof.held && !without && (
        <p className="text-[13px] text-soft">
          {app.name} is on no plan of {product.name} yet; the gateway says so.{" "}
          <Link className="figure-link" to={`/products/${product.slug}`}>
            Choose a plan
          </Link>
        </p>
      )}
      {!sandbox && !without && (
        <p className="text-[13px] text-soft">No sandbox answers it: a live credential does alone.</p>
      )}
      {way.shows === "token" &&
        issuers.map((issuer) => (
          <p key={issuer.name} className="text-[13px] text-soft">
            {issuer.name} issues it for the audience {issuer.audience}, with{" "}
            <code className="font-mono">{app?.client_id ?? "your client id"}</code> in the claim{" "}
            {issuer.claim}.{" "}
            {me.demo.length > 0 && app && (
              <a
                className="figure-link"
                target="_blank"
                rel="noreferrer"
                href={`${issuer.issuer}/tokens?${new URLSearchParams({ aud: issuer.audience, [issuer.claim]: app.client_id })}`}
              >
                In this demo, it gives one to anybody.
              </a>
            )}
          </p>
        ))}
      {way.hour && (
        <p className="text-[13px] text-soft">
          It is made when the call is sent, and calls the sandbox alone.
        </p>
      )}
      {!me.name && (
        <p className="text-[13px] text-soft">
          <Link className="figure-link" to="/sign-in">
            Signed in
          </Link>
          , you can have a key made here{sandbox ? " that lives an hour" : ""}.
        </p>
      )}
      {me.name && proof.apps.length === 0 && (
        <p className="text-[13px] text-soft">
          <Link className="figure-link" to="/applications">
            Register an application
          </Link>
          , and a key can be made here.
        </p>
      )}
      {way.shows === "client" && proof.shownToken && (
        <details className="text-[13px]">
          <summary className="cursor-pointer">the token that was given</summary>
          <code className="font-mono break-all">{proof.shownToken}</code>
        </details>
      )}
    </fieldset>
  );
}

/** What the gateway answers when it lets a call not through. */
const REFUSED = [401, 403, 429];

const answeredWords = (served: number) =>
  served === 0
    ? "No call was answered."
    : `${plural(served, "call")} ${served === 1 ? "was" : "were"} answered.`;

/** Why nothing came back: what the portal or the token endpoint says, or that no answer could be read. */
function troubleWords(error: unknown): string {
  if (error instanceof TypeError) return "No answer came from the gateway that this page may read.";
  return error instanceof Problem
    ? sentence(error)
    : said(error instanceof Error ? error.message : "it could not be sent");
}
