import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Console } from "../../api/console";
import { colleagues, factorRule, housePeople, me } from "../../api/queries/house";
import { Trouble, Waiting, WordButton } from "../../kit/controls";
import { dayAndMinute, dayAndYear, plural } from "../../kit/format";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";
import { inWords, isOne, ROLES } from "../roles";
import { FactorRule } from "./factor-rule";
import { Invitations, Invite } from "./invite";
import { OutsideProvider } from "./outside";
import { PersonDialog } from "./person";

type Person = Console["PersonView"];

/** Who works here, and as what; an owner of the house invites, and says who may do what. */
export function People() {
  const mine = useQuery(me()).data?.roles;
  const owner = isOne(mine, ["owner"]);
  return (
    <Page title="People" sub="Who works here, and what each may do." margin={<Margin owner={owner} />}>
      {owner ? <Everybody /> : <Colleagues />}
    </Page>
  );
}

function Margin({ owner }: { owner: boolean }) {
  const rule = useQuery(factorRule());
  return (
    <>
      <Aside title="What each role is for">
        {ROLES.map(([role, words]) => (
          <p key={role} className="py-[3px]">
            <b className="font-semibold">{role}</b> {words}
          </p>
        ))}
        <p className="mt-1.5 text-soft">
          Whoever holds several may do what any of them may. Everybody reads everything but what guards
          somebody’s sign-in.
        </p>
      </Aside>
      <Aside title="A second factor">
        <Trouble error={rule.error} />
        {rule.data && <FactorRule required={rule.data.required} owner={owner} />}
      </Aside>
      {owner && (
        <Aside title="Through another system">
          <OutsideProvider />
        </Aside>
      )}
    </>
  );
}

/** Colleagues as everybody sees them. */
function Colleagues() {
  const list = useQuery(colleagues());
  return (
    <>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading who works here" />}
      {list.data && (
        <Table
          className="mt-4"
          rows={list.data}
          id={(p) => p.id}
          columns={[
            { head: "Name", names: true, cell: (p) => `${p.name}${p.me ? " (you)" : ""}` },
            { head: "Is", cell: (p) => inWords(p.roles) },
          ]}
        />
      )}
      <p className="mt-3 text-[13px] text-soft">
        Owners of the house invite people and say what each may do.
      </p>
    </>
  );
}

/** Everybody, as an owner of the house sees them. */
function Everybody() {
  const list = useQuery(housePeople());
  const [open, setOpen] = useState<number | null>(null);
  const person = list.data?.find((p) => p.id === open);
  return (
    <>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading who works here" />}
      {list.data && (
        <Table
          className="mt-4"
          rows={list.data}
          id={(p) => p.id}
          open={(p) => setOpen(p.id)}
          columns={[
            {
              head: "Name",
              names: true,
              cell: (p) => (
                <>
                  {p.name}
                  {p.me && " (you)"}
                  <div className="text-[12px] text-soft">{p.email}</div>
                </>
              ),
            },
            { head: "Is", cell: (p) => <Roles of={p} /> },
            { head: "Signs in with", cell: guards },
            { head: "Last seen", cell: seen, look: "whitespace-nowrap text-soft" },
            {
              head: "Change",
              quiet: true,
              number: true,
              cell: (p) => (
                <WordButton aria-label={`change ${p.name}…`} onClick={() => setOpen(p.id)}>
                  change…
                </WordButton>
              ),
            },
          ]}
        />
      )}
      <Invite />
      <Invitations />
      {person && <PersonDialog of={person} onClose={() => setOpen(null)} />}
    </>
  );
}

function Roles({ of }: { of: Person }) {
  if (of.deactivated_at)
    return <span className="text-soft">deactivated {dayAndYear(of.deactivated_at)}</span>;
  return inWords(of.roles);
}

function guards(of: Person): string {
  const keys = of.passkeys > 0 && plural(of.passkeys, "passkey");
  return ["a password", of.factor && "a code", keys].filter(Boolean).join(", ");
}

function seen(of: Person): string {
  if (of.seen_at) return dayAndMinute(of.seen_at);
  return "not signed in";
}
