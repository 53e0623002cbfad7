import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { importColumns } from "../../api/queries/admit";
import { me } from "../../api/queries/house";
import { Choose } from "../../kit/choose";
import { Button, Dialog, Trouble } from "../../kit/controls";
import { TextFile } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { count, dayAndMinute } from "../../kit/format";
import { Listing } from "../../kit/list";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";
import { useList } from "../list";
import { isOne } from "../roles";

type Kind = Console["ImportView"]["kind"];

export const KINDS = [
  ["consumers", "consumers, with their owners"],
  ["members", "members of consumers"],
  ["applications", "applications"],
  ["subscriptions", "subscriptions"],
] as const satisfies readonly (readonly [Kind, string])[];
const STAGES: Record<Console["ImportView"]["stage"], string> = {
  checking: "being checked",
  checked: "checked; nothing is made of it yet",
  running: "being brought in",
  stopped: "stopped",
  done: "brought in",
};

export function stageInWords({ stage, good }: Console["ImportView"]): string {
  return stage === "checked" && good === 0 ? "checked; nothing of it can be brought in" : STAGES[stage];
}

/** Files of consumers and what is theirs, and how far they are brought in. */
export function Imports() {
  const roles = useQuery(me()).data?.roles;
  const [taking, setTaking] = useState(false);
  const list = useList("/imports", (query) => api.get("/imports", { params: { query } }), { every: 5_000 });
  return (
    <Page
      title="From files"
      sub="Consumers, members, applications and subscriptions from CSV. Each row is checked before anything is made, by the rules that hold by hand."
      margin={<Columns />}
    >
      <Listing
        list={list}
        id={(f) => f.id}
        address={(f) => `/admit/imports/${f.id}`}
        actions={
          isOne(roles, ["product manager", "reviewer"]) && (
            <Button onClick={() => setTaking(true)}>Take a file in</Button>
          )
        }
        reading="Reading which files there are"
        empty="No file was taken in during the last 30 days."
        more="Earlier files"
        columns={[
          { head: "File", cell: (f) => f.name },
          { head: "Of", cell: (f) => f.kind },
          { head: "Taken in", cell: (f) => `${dayAndMinute(f.begun_at)} by ${f.begun_by}` },
          { head: "Rows", cell: (f) => count(f.rows), number: true },
          { head: "Made", cell: (f) => count(f.made), number: true },
          { head: "Left out", cell: (f) => count(f.wrong + f.refused), number: true },
          { head: "It is", cell: (f) => stageInWords(f) },
        ]}
      />
      {taking && <Take onClose={() => setTaking(false)} />}
    </Page>
  );
}

/** What stands in a file, by what it is of. */
function Columns() {
  const known = useQuery(importColumns());
  const [kind, setKind] = useState<Kind>("consumers");
  return (
    <Aside title="What stands in a file">
      <Choose quiet label="A file of" value={kind} choices={KINDS} onChange={setKind} />
      <Trouble error={known.error} />
      <Table
        tight
        className="mt-2"
        rows={known.data?.[kind] ?? []}
        id={(c) => c.name}
        columns={[
          {
            head: "Column",
            names: true,
            look: "align-top",
            cell: (c) => <span className={c.needed ? "font-semibold" : ""}>{c.name}</span>,
          },
          { head: "Holds", cell: (c) => c.holds, look: "text-soft" },
        ]}
      />
      <p className="mt-2 text-[13px] text-soft">
        Each row needs those that stand out. Commas or semicolons between cells, the names in the first line,
        in any order.
      </p>
    </Aside>
  );
}

function Take({ onClose }: { onClose: () => void }) {
  const navigate = useNavigate();
  const entry = useEntry({
    start: { kind: "consumers" as Kind, name: "", text: "" },
    send: ({ name, ...rest }) => api.post("/imports", { body: { ...rest, name: name || "pasted" } }),
    done: (made) => navigate(`/admit/imports/${made.id}`),
  });
  const { kind, text } = entry.form.watch();
  return (
    <Dialog open onClose={onClose} title="Take a file in">
      <Form of={entry}>
        <Choose
          label="It is a file of"
          value={kind}
          choices={KINDS}
          onChange={(value) => entry.form.setValue("kind", value)}
        />
        <TextFile
          name="text"
          accept=".csv,text/csv"
          label="Or paste its text"
          height="h-40"
          onName={(from) => entry.form.setValue("name", from)}
        />
        <Ends onLeave={onClose}>
          <Send disabled={!text.trim()}>Check its rows</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
