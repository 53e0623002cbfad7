import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/compose";
import { Choose } from "../../kit/choose";
import { Button, Field, Trouble } from "../../kit/controls";
import { plural } from "../../kit/format";
import { Aside, Page } from "../frame";

type Existing = "" | "keep" | "next period" | "at date";

/** The whole tariff as a document: taken out for version control, compared, and applied as a whole. */
export function TariffDocument() {
  const stale = useStale();
  const [text, setText] = useState("");
  const [publish, setPublish] = useState<Existing>("");
  const [on, setOn] = useState("");
  const compare = useMutation({ mutationFn: () => api.post("/tariff/diff", { body: { text } }) });
  const apply = useMutation({
    mutationFn: () =>
      api.post("/tariff/apply", {
        body: { text, publish: publish || null, on: publish === "at date" ? on : null },
      }),
    onSuccess: () => stale(STALE.tariff),
  });
  const change = (next: string) => {
    setText(next);
    compare.reset();
    apply.reset();
  };
  const differences = compare.data;
  return (
    <Page
      title="The tariff as a document"
      sub="Meters, products, plans and limits in one YAML file, to be kept and reviewed in version control."
      margin={
        <>
          <Aside title="Take it out">
            <a className="figure-link" href="/api/v1/tariff" download="tariff.yaml">
              Save tariff.yaml
            </a>
            <p className="mt-1 text-soft">With drafts. Applied here again, it changes nothing.</p>
          </Aside>
          <Aside title="On the command line">
            <p className="font-mono text-[12px]">
              ./calm tariff export
              <br />
              ./calm tariff diff FILE
              <br />
              ./calm tariff apply FILE
            </p>
          </Aside>
        </>
      }
    >
      <form
        className="mt-5 max-w-[760px]"
        onSubmit={(e) => {
          e.preventDefault();
          compare.mutate();
        }}
      >
        <label className="mb-3 block text-[13px] text-soft">
          From a file
          <input
            type="file"
            accept=".yaml,.yml,.json"
            className="mt-1 block text-ink file:mr-3 file:cursor-pointer file:rounded file:border file:border-line file:bg-sheet file:px-3 file:py-1 file:text-[13px]"
            onChange={async (e) => change((await e.target.files?.[0]?.text()) ?? "")}
          />
        </label>
        <label className="mb-3 block text-[13px] text-soft">
          Or paste it
          <textarea
            className="field mt-1 h-64 rounded border border-line p-2 font-mono text-[12px] text-ink"
            spellCheck={false}
            value={text}
            onChange={(e) => change(e.target.value)}
          />
        </label>
        <Button type="submit" disabled={!text.trim() || compare.isPending}>
          Compare it with what is here
        </Button>
        <Trouble error={compare.error} />
      </form>
      {differences && !apply.data && (
        <section className="mt-5 max-w-[760px]" aria-label="Differences">
          <h2 className="border-b border-line pb-1">
            {differences.length ? plural(differences.length, "difference") : "No difference"}
          </h2>
          <Differences rows={differences} />
          {differences.length > 0 && (
            <div className="mt-3">
              <Choose
                label="New terms"
                value={publish}
                choices={[
                  ["", "stay drafts, to be published on the sheet"],
                  ["next period", "are published; those on a plan move at their next period"],
                  ["at date", "are published; those on a plan move on a day"],
                  ["keep", "are published; those on a plan keep their revision"],
                ]}
                onChange={setPublish}
              />
              {publish === "at date" && (
                <div className="w-48">
                  <Field label="The day they move" type="date" value={on} onChange={setOn} />
                </div>
              )}
              <Button
                main
                disabled={apply.isPending || (publish === "at date" && !on)}
                onClick={() => apply.mutate()}
              >
                Apply {plural(differences.length, "difference")}
              </Button>
            </div>
          )}
          <Trouble error={apply.error} />
        </section>
      )}
      {apply.data && (
        <p role="status" className="mt-5">
          Applied: {plural(apply.data.differences.length, "difference")}.{" "}
          {apply.data.unpublished.length > 0 && `As drafts still: ${apply.data.unpublished.join(", ")}.`}
        </p>
      )}
    </Page>
  );
}

function Differences({ rows }: { rows: Console["Difference"][] }) {
  return (
    <table className="plain-table">
      <tbody>
        {rows.map((d) => (
          <tr key={d.where + d.what}>
            <td className="w-56">{d.where}</td>
            <td>{d.what}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
