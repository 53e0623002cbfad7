import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { closingOf, erasingOf, erasingOfMember, mergingOf, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { me } from "../../api/queries/house";
import { Choose } from "../../kit/choose";
import { Dialog, Note, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { date, dayAndYear } from "../../kit/format";
import { isOne } from "../roles";
import { ConsumerChoice } from "./consumer-choice";

type Consumer = Console["ConsumerView"];
type Erasing = Console["ErasingView"];

/** All that is kept of a consumer: taken along, its account closed, and what is personal in it erased. */
export function OwnData({ of: c }: { of: Consumer }) {
  const roles = useQuery(me()).data?.roles;
  const [asking, setAsking] = useState<"close" | "merge" | "erase" | null>(null);
  const [owns, runs] = [isOne(roles, ["owner"]), isOne(roles, ["owner", "product manager"])];
  if (c.erased_at)
    return <p className="py-2 text-soft">What was personal in it was erased {dayAndYear(c.erased_at)}.</p>;
  if (!runs)
    return <p className="py-2 text-soft">A product manager, or an owner of the house, hands it out.</p>;
  return (
    <>
      <p className="flex gap-5 py-2">
        <a className="figure-link text-[13px]" href={`/api/v1/consumers/${c.line.id}/data.zip`} download>
          take all of it along
        </a>
        {["let in", "suspended"].includes(c.line.state) && (
          <>
            <WordButton onClick={() => setAsking("merge")}>merge it into another…</WordButton>
            <WordButton onClick={() => setAsking("close")}>close its account…</WordButton>
          </>
        )}
        {owns && <WordButton onClick={() => setAsking("erase")}>erase what is personal…</WordButton>}
      </p>
      <p className="text-[13px] text-soft">
        {c.closed_at && `The account was closed ${dayAndYear(c.closed_at)}. `}
        Its rows, table by table, as JSON Lines in a ZIP archive: no passwords, and none of your notes inside.
      </p>
      {asking === "merge" && <Merge of={c} onClose={() => setAsking(null)} />}
      {asking === "close" && <Close of={c} onClose={() => setAsking(null)} />}
      {asking === "erase" && <Erase of={c} onClose={() => setAsking(null)} />}
    </>
  );
}

function Close({ of: c, onClose }: { of: Consumer; onClose: () => void }) {
  const stale = useStale();
  const query = useQuery(closingOf(c.line.id));
  const entry = useEntry({
    start: { name: "" },
    send: (body) =>
      api.post("/consumers/{consumer_id}/closing", { params: { path: { consumer_id: c.line.id } }, body }),
    done: async () => {
      await stale([...STALE.consumerMade, ...STALE.request]);
      onClose();
    },
  });
  const of = query.data;
  return (
    <Dialog open onClose={onClose} title={`Close the account of ${c.line.name}`}>
      <Trouble error={query.error} />
      {query.isPending && <Waiting words="Working out what that brings with it" />}
      {of && (
        <>
          <Said
            of={[
              ...of.subscriptions.map(
                (e) =>
                  `${e.offer} of ${e.application} ends ${e.last_day ? `with ${date(e.last_day)} at the earliest, after notice` : "at once"}.`,
              ),
              ...of.said,
              "Its members are told by mail.",
            ]}
          />
          {of.hindered ? (
            <Note>It cannot be closed yet: a plan asks for notice. That subscription ends first.</Note>
          ) : (
            <ByName of={entry} name={c.line.name} label="The organisation's name, as it is" onClose={onClose}>
              Close the account for good
            </ByName>
          )}
        </>
      )}
    </Dialog>
  );
}

/** Into which other organisation, what that would bring with it, and doing it. */
function Merge({ of: c, onClose }: { of: Consumer; onClose: () => void }) {
  const [into, setInto] = useState<number | null>(null);
  return (
    <Dialog open onClose={onClose} title={`Merge ${c.line.name} into another organisation`}>
      <div className="mb-3 text-[13px] text-soft">
        Into, which goes on in its place
        <ConsumerChoice
          label="Into, which goes on in its place"
          chosen={into}
          nobody="the name of an organisation"
          className="field text-ink"
          onChoose={(other) => setInto(other?.id ?? null)}
        />
      </div>
      {into !== null && <MergeInto key={into} of={c} into={into} onClose={onClose} />}
    </Dialog>
  );
}

function MergeInto({ of: c, into, onClose }: { of: Consumer; into: number; onClose: () => void }) {
  const stale = useStale();
  const query = useQuery(mergingOf(c.line.id, into));
  const entry = useEntry({
    start: { name: "" },
    send: (body) =>
      api.post("/consumers/{consumer_id}/merging/{into_id}", {
        params: { path: { consumer_id: c.line.id, into_id: into } },
        body,
      }),
    done: async () => {
      await stale(STALE.merged);
      onClose();
    },
  });
  const of = query.data;
  if (!of)
    return query.error ? (
      <Trouble error={query.error} />
    ) : (
      <Waiting words="Working out what that brings with it" />
    );
  if (of.hindered.length > 0) return <Note>They cannot be merged. {of.hindered.join(" ")}</Note>;
  return (
    <>
      <Said of={[...of.said, "The members of both are told by mail."]} />
      <ByName of={entry} name={of.name} label={`The name of ${of.name}, as it is`} onClose={onClose}>
        Merge it into {of.into} for good
      </ByName>
    </>
  );
}

/** Of all of them, or of one: what it would bring with it, and doing it. */
function Erase({ of: c, onClose }: { of: Consumer; onClose: () => void }) {
  const [whose, setWhose] = useState("");
  const everybody = [...c.members, ...c.left];
  const member = everybody.find((m) => String(m.id) === whose);
  return (
    <Dialog open onClose={onClose} title="Erase what is personal">
      <Choose
        label="Of whom"
        value={whose}
        choices={[
          ["", `${c.line.name}, with everybody who belonged to it`],
          ...everybody.map((m) => [String(m.id), m.name] as const),
        ]}
        onChange={setWhose}
      />
      {member ? (
        <EraseMember key={member.id} of={member} onClose={onClose} />
      ) : (
        <EraseAll of={c} onClose={onClose} />
      )}
    </Dialog>
  );
}

function EraseAll({ of: c, onClose }: { of: Consumer; onClose: () => void }) {
  const path = { params: { path: { consumer_id: c.line.id } } };
  return (
    <EraseByName
      query={useQuery(erasingOf(c.line.id))}
      send={(body) => api.post("/consumers/{consumer_id}/erasing", { ...path, body })}
      label="The organisation's name, as it is"
      onClose={onClose}
    >
      Erase all of them for good
    </EraseByName>
  );
}

function EraseMember({ of: m, onClose }: { of: Consumer["members"][number]; onClose: () => void }) {
  const path = { params: { path: { member_id: m.id } } };
  return (
    <EraseByName
      query={useQuery(erasingOfMember(m.id))}
      send={(body) => api.post("/members/{member_id}/erasing", { ...path, body })}
      label="Their name, as it is"
      onClose={onClose}
    >
      Erase {m.name} for good
    </EraseByName>
  );
}

type EraseProps = {
  query: { data?: Erasing; error: unknown; isPending: boolean };
  send: (body: { name: string }) => Promise<unknown>;
  label: string;
  onClose: () => void;
  children: React.ReactNode;
};

function EraseByName({ query, send, label, onClose, children }: EraseProps) {
  const stale = useStale();
  const entry = useEntry({
    start: { name: "" },
    send,
    done: async () => {
      await stale(STALE.erased);
      onClose();
    },
  });
  return (
    <>
      <Brings query={query} />
      {query.data?.hindered.length === 0 && (
        <ByName of={entry} name={query.data.name} label={label} onClose={onClose}>
          {children}
        </ByName>
      )}
    </>
  );
}

function Brings({ query }: Pick<EraseProps, "query">) {
  if (!query.data)
    return query.error ? <Trouble error={query.error} /> : <Waiting words="Counting what is there of them" />;
  return (
    <>
      <h3 className="font-semibold">What goes, for good</h3>
      <Said of={query.data.goes} />
      <h3 className="font-semibold">What stays</h3>
      <Said of={query.data.stays} />
      {query.data.hindered.length > 0 && (
        <Note>It cannot be erased yet. {query.data.hindered.join(" ")}</Note>
      )}
    </>
  );
}

function Said({ of }: { of: string[] }) {
  return (
    <ul className="mb-3 list-disc pl-5">
      {of.map((words) => (
        <li key={words} className="py-0.5">
          {words}
        </li>
      ))}
    </ul>
  );
}

/** A form that asks for a name before something is done for good. */
function ByName<R>({
  of,
  name,
  label,
  onClose,
  children,
}: {
  of: ReturnType<typeof useEntry<{ name: string }, R>>;
  name: string;
  label: string;
  onClose: () => void;
  children: React.ReactNode;
}) {
  return (
    <Form of={of}>
      <Line name="name" label={label} placeholder={name} autoComplete="off" required />
      <Ends onLeave={onClose}>
        <Send>{children}</Send>
      </Ends>
    </Form>
  );
}
