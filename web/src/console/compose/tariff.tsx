import { api } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/compose";
import { Choice, Line, TextFile } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { plural } from "../../kit/format";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";

type Existing = "" | "keep" | "next period" | "at date";

/** The whole tariff as a document: taken out for version control, compared, and applied as a whole. */
export function TariffDocument() {
  const stale = useStale();
  const compare = useEntry({
    start: { text: "" },
    send: (body) => api.post("/tariff/diff", { body }),
  });
  const { text } = compare.form.watch();
  const apply = useEntry({
    start: { publish: "" as Existing, on: "" },
    send: ({ publish, on }) =>
      api.post("/tariff/apply", {
        body: { text, publish: publish || null, on: publish === "at date" ? on : null },
      }),
    done: () => stale(STALE.tariff),
  });
  const { publish, on } = apply.form.watch();
  // Differences are those of the text as it stands.
  const differences = compare.sent?.text === text ? compare.answer : undefined;
  const applied = differences && apply.answer;
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
      <Form of={compare} className="mt-5 max-w-[760px]">
        <TextFile
          name="text"
          accept=".yaml,.yml,.json"
          label="Or paste it"
          height="h-64"
          onName={apply.again}
        />
        <Send main={false} disabled={!text.trim()}>
          Compare it with what is here
        </Send>
        <Refused />
      </Form>
      {differences && !applied && (
        <section className="mt-5 max-w-[760px]" aria-label="Differences">
          <h2 className="border-b border-line pb-1">
            {differences.length ? plural(differences.length, "difference") : "No difference"}
          </h2>
          <Table
            rows={differences}
            id={(d) => d.where + d.what}
            columns={[{ cell: (d) => d.where, look: "w-56" }, { cell: (d) => d.what }]}
          />
          {differences.length > 0 && (
            <Form of={apply} className="mt-3">
              <Choice
                name="publish"
                label="New terms"
                choices={[
                  ["", "stay drafts, to be published on the sheet"],
                  ["next period", "are published; those on a plan move at their next period"],
                  ["at date", "are published; those on a plan move on a day"],
                  ["keep", "are published; those on a plan keep their revision"],
                ]}
              />
              {publish === "at date" && (
                <div className="w-48">
                  <Line name="on" label="The day they move" type="date" />
                </div>
              )}
              <Send disabled={publish === "at date" && !on}>
                Apply {plural(differences.length, "difference")}
              </Send>
              <Refused />
            </Form>
          )}
        </section>
      )}
      {applied && (
        <p role="status" className="mt-5">
          Applied: {plural(applied.differences.length, "difference")}.{" "}
          {applied.unpublished.length > 0 && `As drafts still: ${applied.unpublished.join(", ")}.`}
        </p>
      )}
    </Page>
  );
}
