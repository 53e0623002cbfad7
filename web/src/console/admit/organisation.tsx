import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Console } from "../../api/console";
import { countries, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { me } from "../../api/queries/house";
import { Dialog, WordButton } from "../../kit/controls";
import { Choice, Line } from "../../kit/fields";
import { Ends, Form, Send, useEntry, useTyped } from "../../kit/form";
import { dayAndYear } from "../../kit/format";
import { Aside } from "../frame";
import { isOne } from "../roles";

type Consumer = Console["ConsumerView"];
type References = Consumer["details"]["references"];

/** Where an organisation is, what it is known by elsewhere, and who belongs to it. */
export function Organisation({ of: c }: { of: Consumer }) {
  const roles = useQuery(me()).data?.roles;
  const known = useQuery(countries()).data ?? {};
  const [changing, setChanging] = useState(false);
  const d = c.details;
  const keeps = !c.erased_at && isOne(roles, ["product manager", "reviewer", "finance"]);
  return (
    <>
      <Aside title="Organisation">
        {d.address && <p className="whitespace-pre-line">{d.address}</p>}
        {d.country && <p>{known[d.country] ?? d.country}</p>}
        {d.tax_number && <p className="text-soft">Tax number {d.tax_number}</p>}
        {d.tax_treatment === "reverse charge" && <p className="text-soft">Owes the tax itself</p>}
        {d.tax_treatment === "exempt" && <p className="text-soft">Exempt from tax: {d.tax_note}</p>}
        {d.references.map((r) => (
          <p key={r.system} className="text-soft">
            {r.system} knows it by {r.reference}
          </p>
        ))}
        {!d.address && !d.country && !d.tax_number && d.references.length === 0 && (
          <p className="text-soft">No address and no tax number is known.</p>
        )}
        <Merged of={c} />
        {keeps && (
          <p className="mt-1">
            <WordButton onClick={() => setChanging(true)}>change its details…</WordButton>
          </p>
        )}
      </Aside>
      <Aside title="Members">
        {c.members.map((m) => (
          <div key={m.id} className="py-[3px]">
            {m.name}, {m.role}
            <div className="text-soft">{m.email}</div>
          </div>
        ))}
        {c.members.length === 0 && <p className="text-soft">Nobody belongs to it.</p>}
        {c.left.length > 0 && <p className="mt-1 text-soft">Left: {c.left.map((m) => m.name).join(", ")}.</p>}
      </Aside>
      {changing && <Details of={c} countries={known} onClose={() => setChanging(false)} />}
    </>
  );
}

/** With which others it is one. */
function Merged({ of: c }: { of: Consumer }) {
  const others = c.merged_into ? [c.merged_into] : c.merged;
  return others.map((other) => (
    <p key={other.id} className="mt-1">
      {c.merged_into ? "Merged into " : "With "}
      <Link className="figure-link" to={`/admit/consumers/${other.id}`}>
        {other.name}
      </Link>
      {other.at && `${c.merged_into ? " on" : ", merged into it on"} ${dayAndYear(other.at)}`}
    </p>
  ));
}

function Details({
  of: c,
  countries: known,
  onClose,
}: {
  of: Consumer;
  countries: Record<string, string>;
  onClose: () => void;
}) {
  const stale = useStale();
  const entry = useEntry({
    start: { ...c.details, references: asLines(c.details.references) },
    send: ({ references, ...rest }) =>
      api.put("/consumers/{consumer_id}/details", {
        params: { path: { consumer_id: c.line.id } },
        body: { ...rest, references: fromLines(references) },
      }),
    done: async () => {
      await stale(STALE.details);
      onClose();
    },
  });
  const names = Object.entries(known).sort(([, a], [, b]) => a.localeCompare(b));
  return (
    <Dialog open onClose={onClose} title={`Details of ${c.line.name}`}>
      <Form of={entry}>
        <Line name="address" label="Its address, as it stands on a letter" area autoFocus />
        <Choice name="country" label="Country" choices={[["", "not said"], ...names]} />
        <Line
          name="tax_number"
          label="Tax number"
          hint="Held to the form that its country gives it, check digit and all."
        />
        <Choice
          name="tax_treatment"
          label="Tax on its invoices"
          choices={[
            ["standard", "as usual"],
            ["reverse charge", "owed by itself (reverse charge)"],
            ["exempt", "none: it is exempt"],
          ]}
        />
        <Exemption />
        <Line
          name="references"
          label="What other systems know it by"
          area
          hint="One a line, such as “Ledger: 10423”. A reference there is one consumer's alone."
        />
        <Ends onLeave={onClose}>
          <Send>Keep its details</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

/** What exempts it, where something does. */
function Exemption() {
  const { tax_treatment } = useTyped<{ tax_treatment: string }>();
  if (tax_treatment !== "exempt") return null;
  return <Line name="tax_note" label="What exempts it" hint="Stands on its invoices." required />;
}

const asLines = (references: References) => references.map((r) => `${r.system}: ${r.reference}`).join("\n");

const fromLines = (text: string) =>
  text
    .split("\n")
    .filter((line) => line.trim())
    .map((line) => {
      const [system = "", ...rest] = line.split(":");
      return { system: system.trim(), reference: rest.join(":").trim() };
    });
