import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type Portal } from "../../api/portal";
import { left, useStale } from "../../api/queries/asking";
import { organisation, STALE } from "../../api/queries/portal";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { dayAndYear } from "../../kit/format";
import { Table } from "../../kit/table";
import { useMe } from "../me";
import { Paying } from "../paying";
import { Invitations, Invite } from "./invite";

type Organisation = Portal["OrganisationView"];
type Member = Organisation["members"][number];
type Role = Member["role"];
/** What an owner is about to do with somebody, which is asked about first. */
type About = { what: "remove" | "hand over" | "leave"; of: Member };

/** Who belongs to one's organisation, as what, and who is invited. */
export function OrganisationPage() {
  const me = useMe();
  const query = useQuery(organisation());
  const stale = useStale();
  const [about, setAbout] = useState<About | null>(null);
  const change = useMutation({
    mutationFn: ({ member, role }: { member: Member; role: Role }) =>
      api.put("/members/{member_id}/role", {
        params: { path: { member_id: member.id } },
        body: { role },
      }),
    onSuccess: () => stale(STALE.organisation),
  });
  const of = query.data;
  if (!of)
    return query.error ? <Trouble error={query.error} /> : <Waiting words="Reading who belongs to it" />;
  const owns = me.may.includes("run the account");
  const owners = of.members.filter((m) => m.role === "owner");
  const alone = owners.length === 1 && owners[0]?.this === true;
  return (
    <>
      <h1>{of.name}</h1>
      <p className="mt-1 text-soft">
        Has an account here since {dayAndYear(of.since)}
        {of.closed_at && `; it was closed on ${dayAndYear(of.closed_at)}`}. You belong to it as {of.role}.
      </p>
      <div className="mt-5 grid gap-x-12 gap-y-8 lg:grid-cols-[1fr_300px]">
        <div className="min-w-0">
          <section
            aria-label="Who belongs to it"
            // biome-ignore lint/a11y/noNoninteractiveTabindex: what is wider is scrolled with keys, too
            tabIndex={0}
            className="relative overflow-x-auto"
          >
            <Table
              rows={of.members}
              id={(m) => m.id}
              columns={[
                {
                  head: "Name",
                  names: true,
                  cell: (m) => (
                    <>
                      {m.name}
                      {m.this && <span className="text-soft">, you</span>}
                    </>
                  ),
                },
                { head: "Mail address", cell: (m) => m.email },
                {
                  head: "Belongs to it as",
                  cell: (m) =>
                    owns && !(m.this && alone) ? (
                      <select
                        aria-label={`What ${m.name} is`}
                        className="border-b border-dashed border-(--portal-main) bg-transparent"
                        value={m.role}
                        disabled={change.isPending}
                        onChange={(e) => change.mutate({ member: m, role: e.target.value as Role })}
                      >
                        {of.roles.map(({ role }) => (
                          <option key={role} value={role}>
                            {role}
                          </option>
                        ))}
                      </select>
                    ) : (
                      m.role
                    ),
                },
                { head: "Since", cell: (m) => (m.joined_at ? dayAndYear(m.joined_at) : "the beginning") },
                {
                  head: "Change",
                  quiet: true,
                  number: true,
                  look: "whitespace-nowrap",
                  cell: (m) => <Actions of={m} owns={owns} alone={alone} onChoose={setAbout} />,
                },
              ]}
            />
            <Trouble error={change.error} />
          </section>
          {owns && (
            <>
              <Invitations of={of.invited} />
              <Invite roles={of.roles} />
            </>
          )}
          <Paying of={of} />
        </div>
        <aside
          aria-label="What each may do"
          className="text-[14px] lg:border-l lg:border-(--portal-line) lg:pl-6"
        >
          <h2 className="mb-2 text-[18px]">What each may do</h2>
          <dl>
            {of.roles.map(({ role, may }) => (
              <div key={role} className="mb-3">
                <dt className="font-semibold">{role}</dt>
                <dd className="text-soft">{may}</dd>
              </div>
            ))}
          </dl>
          {owns && (
            <p className="mt-6">
              <Link className="figure-link" to="/organisation/closing">
                What closing the account would bring with it
              </Link>
            </p>
          )}
        </aside>
      </div>
      {about && <Sure about={about} organisation={of.name} onClose={() => setAbout(null)} />}
    </>
  );
}

function Actions({
  of,
  owns,
  alone,
  onChoose,
}: {
  of: Member;
  owns: boolean;
  alone: boolean;
  onChoose: (about: About) => void;
}) {
  if (of.this)
    return alone ? null : <WordButton onClick={() => onChoose({ what: "leave", of })}>leave it</WordButton>;
  if (!owns) return null;
  return (
    <>
      {of.role !== "owner" && (
        <WordButton className="mr-3" onClick={() => onChoose({ what: "hand over", of })}>
          make owner in my place
        </WordButton>
      )}
      <WordButton onClick={() => onChoose({ what: "remove", of })}>remove</WordButton>
    </>
  );
}

/** Access is lost by it: who and what is said first. */
function Sure({
  about: { what, of },
  organisation: name,
  onClose,
}: {
  about: About;
  organisation: string;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const stale = useStale();
  const navigate = useNavigate();
  const go = useMutation({
    mutationFn: async (): Promise<void> => {
      if (what === "leave") await api.delete("/membership", {});
      else if (what === "remove")
        await api.delete("/members/{member_id}", { params: { path: { member_id: of.id } } });
      else await api.put("/organisation/owner", { body: { to: of.id } });
    },
    onSuccess: async () => {
      onClose();
      if (what === "leave") {
        navigate("/");
        return left(queries);
      }
      return stale(what === "hand over" ? STALE.myRole : STALE.organisation);
    },
  });
  const { title, words, verb } = {
    leave: {
      title: `Leave ${name}`,
      words: `You are signed out, and cannot sign in any more. What you have made stays, your applications' keys among it; the owners are told.`,
      verb: "Leave it",
    },
    remove: {
      title: `Remove ${of.name}`,
      words: `${of.name} is signed out everywhere within a second, and cannot sign in any more. What they have made stays; keys that they know serve on until you revoke them.`,
      verb: `Remove ${of.name}`,
    },
    "hand over": {
      title: `Make ${of.name} the owner`,
      words: `${of.name} owns the account of ${name} from then on: its subscriptions, its members and its invoices. You are a developer of it.`,
      verb: "Hand it over",
    },
  }[what];
  return (
    <Dialog open onClose={onClose} title={title}>
      <p>{words}</p>
      <Trouble error={go.error} />
      <div className="mt-4 flex justify-end gap-2">
        <Button onClick={onClose}>Leave it as it is</Button>
        <Button main disabled={go.isPending} onClick={() => go.mutate()}>
          {verb}
        </Button>
      </div>
    </Dialog>
  );
}
