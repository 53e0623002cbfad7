import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { receipt as receiptOf } from "../../api/queries/portal";
import { Waiting, WordButton } from "../../kit/controls";
import { count, plural } from "../../kit/format";
import { Gauge } from "../../kit/gauge";
import { ReceiptLadder } from "../../kit/receipt";
import { Table } from "../../kit/table";
import { beginning } from "../beginning";
import { useMe } from "../me";
import { inPlace, partsAsText } from "./files";
import { type Left, limitsOf, meaning, span } from "./limits";
import { isJson, parsed, type Request } from "./request";
import { Scrolled } from "./scrolled";
import { type Answer, unsent } from "./sending";
import { Tree } from "./tree";

/** So much of a body is shown. */
const MOST_SHOWN = 100_000;

/** An answer: what was sent, what came back, what is left of the limits, and the receipt. */
export function Answered({ request, answer }: { request: Request; answer: Answer }) {
  const me = useMe();
  const limits = limitsOf(answer.headers);
  const headers = [...answer.headers.entries()].map(([name, value]) => ({ name, value }));
  return (
    <section aria-label="The answer" className="mt-4 border-t border-(--portal-line) pt-3">
      <p role="status" className="text-[16px]">
        <b className="font-semibold">Answered {answer.status}</b> in {Math.max(1, Math.round(answer.took))} ms
        with {plural(answer.body.size, "byte")}.
      </p>
      <div className="mt-2 grid gap-x-12 gap-y-4 lg:grid-cols-[1fr_320px]">
        <div className="min-w-0">
          <Body key={`${answer.call} ${answer.took}`} of={answer} />
          <details className="mt-3">
            <summary className="cursor-pointer text-[13px]">{plural(headers.length, "header")}</summary>
            <Table
              tight
              className="text-[13px]"
              rows={headers}
              id={(h) => h.name}
              columns={[
                { head: "Name", cell: (h) => <code className="font-mono">{h.name}</code> },
                { head: "Value", cell: (h) => <code className="font-mono break-all">{h.value}</code> },
                { head: "What it says", cell: (h) => meaning(h.name) ?? "" },
              ]}
            />
          </details>
          <AsSent request={request} />
        </div>
        <aside aria-label="What is left, and the receipt" className="text-[13.5px]">
          {limits.map((limit) => (
            <LimitLeft key={limit.name} of={limit} />
          ))}
          {me.name && request.secret && answer.call && <Receipt call={answer.call} />}
        </aside>
      </div>
    </section>
  );
}

function LimitLeft({ of }: { of: Left }) {
  const over = of.window === undefined ? "" : `, for ${span(of.window)}`;
  const more =
    of.more === undefined || of.left >= of.allowed ? "" : `; more in ${span(Math.max(1, of.more))}`;
  return (
    <div className="mb-3">
      <div>{of.name}</div>
      <Gauge
        label={of.name}
        used={Math.max(0, of.allowed - of.left)}
        allowed={of.allowed}
        words={`${count(Math.max(0, of.left))} of ${count(of.allowed)} left${over}${more}`}
      />
    </div>
  );
}

/** The receipt, as soon as the call is recorded. */
function Receipt({ call }: { call: string }) {
  const receipt = useQuery({ ...receiptOf(call), placeholderData: undefined, retry: 40, retryDelay: 500 });
  return (
    <section aria-label="Receipt" className="[&_.bg-paper]:bg-white">
      <h3 className="mb-1 text-[16px]">Receipt</h3>
      {receipt.data ? (
        <>
          <ReceiptLadder of={receipt.data} />
          <p className="mt-2">
            <Link className="figure-link" to={`/usage?call=${call}`}>
              It stands in your log
            </Link>
          </p>
        </>
      ) : receipt.error ? (
        <p className="text-soft">No call of yours has this receipt: somebody else’s credential made it.</p>
      ) : (
        <Waiting words="Waiting for the record of the call" />
      )}
    </section>
  );
}

function Body({ of }: { of: Answer }) {
  const media = of.headers.get("content-type") ?? "";
  const [shown, setShown] = useState<string | null>(null);
  useEffect(() => {
    const read = media.startsWith("image/") ? asAddress(of.body) : of.body.slice(0, MOST_SHOWN).text();
    read.then(setShown);
  }, [of, media]);
  const [plain, setPlain] = useState(false);
  if (of.body.size === 0) return <p className="text-soft">It has no body.</p>;
  if (shown === null) return <Waiting words="Reading the body" />;
  if (media.startsWith("image/")) {
    return <img src={shown} alt="What was answered" className="max-h-[420px] max-w-full" />;
  }
  const whole = of.body.size <= MOST_SHOWN;
  const value = whole && isJson(media) ? parsed(shown) : null;
  const readable = /^text\/|json|xml|javascript|yaml|csv|form-urlencoded/.test(media);
  if (!readable) return <p className="text-soft">It is {media || "of no said type"}, and not shown here.</p>;
  return (
    <>
      {value !== null && (
        <WordButton onClick={() => setPlain(!plain)}>{plain ? "as a tree" : "as text"}</WordButton>
      )}
      <Scrolled label="The body" most="max-h-[460px]">
        {value !== null && !plain ? <Tree value={value} /> : <pre>{shown}</pre>}
      </Scrolled>
      {!whole && (
        <p className="text-[13px] text-soft">
          The first {count(MOST_SHOWN)} of {count(of.body.size)} bytes are shown.
        </p>
      )}
    </>
  );
}

function asAddress(body: Blob): Promise<string> {
  return new Promise((done, failed) => {
    const reader = new FileReader();
    reader.onload = () => done(String(reader.result));
    reader.onerror = () => failed(reader.error);
    reader.readAsDataURL(body);
  });
}

/** The request as it was sent; of what proves who called, only the beginning. */
function AsSent({ request }: { request: Request }) {
  const left = unsent(request);
  return (
    <details className="mt-2">
      <summary className="cursor-pointer text-[13px]">the request as sent</summary>
      <pre className="mt-1 bg-(--portal-tint) p-3 font-mono text-[12.5px] break-words whitespace-pre-wrap">
        {[
          `${request.method} ${request.url}`,
          ...request.headers
            .filter(([name]) => !left.includes(name))
            .map(([name, value]) => `${name}: ${name === request.secret ? begins(value) : value}`),
          ...(bodyAsText(request) ? ["", bodyAsText(request)] : []),
        ].join("\n")}
      </pre>
      {left.length > 0 && (
        <p className="text-[13px] text-soft">{left.join(", ")}: a page may not send it, a program can.</p>
      )}
    </details>
  );
}

/** What was sent, with words in place of what is no text. */
function bodyAsText({ body, parts, file }: Request): string {
  if (parts) return partsAsText(parts).replaceAll("\r\n", "\n");
  return file ? inPlace(file) : (body ?? "");
}

function begins(value: string): string {
  const [, scheme = "", secret = ""] = /^(Bearer |Basic )?(.*)/s.exec(value) ?? [];
  return `${scheme}${beginning(secret)}…`;
}
