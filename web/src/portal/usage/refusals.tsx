import type { Portal } from "../../api/portal";
import { WordButton } from "../../kit/controls";
import { plural } from "../../kit/format";
import { Shape } from "../../kit/verdict";
import { NOTHING_FURTHER, useChosen } from "./chosen";

type Refusal = Portal["RefusedBy"];

/** What refused calls, and what would have let the newest of them in. */
export function Refusals({ of }: { of: Refusal[] }) {
  const { change } = useChosen();
  return (
    <section aria-label="What refused calls" className="mt-7 max-w-[76ch]">
      <h2 className="mb-1 text-[18px]">What refused calls</h2>
      {of.map((r) => (
        <div key={r.by} className="border-b border-(--portal-line-soft) py-2">
          <p className="flex items-baseline gap-2">
            <Shape of="refused" />
            <span>
              <b className="font-semibold">{r.name}</b>:{" "}
              <WordButton
                onClick={() => change({ ...NOTHING_FURTHER, verdict: "refused", refused_by: r.by })}
              >
                {plural(r.calls, "call")}
              </WordButton>
              {r.newest && (
                <>
                  , the newest with{" "}
                  <WordButton
                    onClick={() =>
                      change({ ...NOTHING_FURTHER, verdict: "refused", refused_by: r.by, call: r.newest })
                    }
                  >
                    this receipt
                  </WordButton>
                </>
              )}
              .
            </span>
          </p>
          {r.advice.length > 0 && <p className="pl-5 text-[14px] text-soft">{r.advice.join(" ")}</p>}
        </div>
      ))}
    </section>
  );
}
