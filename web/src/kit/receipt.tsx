import { Link } from "react-router";
import { Gauge } from "./gauge";
import { RequestDetails } from "./request-details";
import { Shape } from "./verdict";

type Rung = {
  state: string;
  title: string;
  note: string;
  kind: string;
  used?: string | null;
  allowed?: string | null;
  link?: string | null;
  before?: string | null;
};
type Receipt = {
  summary: string;
  rungs: Rung[];
  told: string[];
  call: { verdict: string };
  advice?: string[];
  took?: string;
  request?: Parameters<typeof RequestDetails>[0]["of"];
  remarks?: string[];
};

/** The ladder of one call: everything that was checked, in order, and what the caller was told. */
export function ReceiptLadder({ of }: { of: Receipt }) {
  return (
    <>
      <p className="mb-2 text-soft">{of.summary}</p>
      {of.advice?.map((words) => (
        <p key={words} className="mb-1">
          {words}
        </p>
      ))}
      <div className="mb-3" />
      <ol className="relative mb-3 before:absolute before:top-2 before:bottom-2 before:left-[5px] before:w-px before:bg-line">
        {of.rungs.map((rung, n) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: rungs are in order
          <li key={n} className="relative pb-3.5 pl-6">
            <span className="absolute top-0.5 left-0 flex w-[11px] justify-center bg-paper py-1">
              <Shape of={rung.state} />
            </span>
            <div>
              {rung.link ? (
                <Link className="figure-link" to={rung.link}>
                  {rung.title}
                </Link>
              ) : (
                rung.title
              )}
            </div>
            {rung.allowed ? (
              <div className="mt-1">
                <Gauge
                  label={rung.title}
                  used={Number(rung.used ?? 0)}
                  before={rung.before == null ? undefined : Number(rung.before)}
                  allowed={Number(rung.allowed)}
                  words={rung.note}
                  tone={rung.state === "refused" ? "madder" : "kelp"}
                />
              </div>
            ) : (
              rung.note && <div className="text-[12px] text-soft">{rung.note}</div>
            )}
          </li>
        ))}
      </ol>
      {of.remarks?.map((words) => (
        <p key={words} className="mb-2 border-l-[3px] border-brass pl-2 text-[12px]">
          {words}
        </p>
      ))}
      {of.took && <p className="mb-3 text-[12px] text-soft">{of.took}</p>}
      {of.told.length > 0 && (
        <>
          <h2 className="mb-1.5">What the caller was told</h2>
          <pre className="font-mono text-[12px] leading-[1.55] break-words whitespace-pre-wrap">
            {of.told.join("\n")}
          </pre>
        </>
      )}
      {of.request && <RequestDetails of={of.request} />}
    </>
  );
}
