import { useMutation } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import { api, type Portal } from "../../api/portal";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/portal";
import { Trouble, Waiting, WordButton } from "../../kit/controls";
import { Choice, Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { day, dayAndYear } from "../../kit/format";
import { letterToken, NewPassword } from "../../kit/signing-in";
import { Table } from "../../kit/table";
import { useEntered } from "../entered";

type Organisation = Portal["OrganisationView"];
type Invited = Organisation["invited"][number];

/** Who was invited and has not come. */
export function Invitations({ of }: { of: Invited[] }) {
  const stale = useStale();
  const takeBack = useMutation({
    mutationFn: (id: number) =>
      api.delete("/invitations/{invitation_id}", { params: { path: { invitation_id: id } } }),
    onSuccess: () => stale(STALE.organisation),
  });
  if (of.length === 0) return null;
  return (
    <section aria-label="Invited" className="relative mt-6 overflow-x-auto">
      <h2 className="text-[18px]">Invited</h2>
      <Table
        rows={of}
        id={(i) => i.id}
        columns={[
          { head: "Mail address", names: true, cell: (i) => i.email },
          { head: "As", cell: (i) => i.role },
          { head: "By", cell: (i) => `${i.invited_by}, ${day(i.invited_at)}` },
          {
            head: "The letter",
            cell: (i) =>
              i.over ? "is too old; invite them again" : `is good until ${dayAndYear(i.expires_at)}`,
          },
          {
            head: "Change",
            quiet: true,
            number: true,
            cell: (i) => (
              <WordButton disabled={takeBack.isPending} onClick={() => takeBack.mutate(i.id)}>
                take it back
              </WordButton>
            ),
          },
        ]}
      />
      <Trouble error={takeBack.error} />
    </section>
  );
}

/** Somebody is invited by mail, as a role. */
export function Invite({ roles }: { roles: Organisation["roles"] }) {
  const stale = useStale();
  const entry = useEntry({
    start: { email: "", role: "developer" as Invited["role"] },
    send: (body) => api.post("/invitations", { body }),
    done: () => stale(STALE.organisation),
    afresh: true,
  });
  return (
    <section aria-label="Invite somebody" className="mt-6">
      <h2 className="mb-1 text-[18px]">Invite somebody</h2>
      <Form of={entry}>
        <div className="flex flex-wrap items-end gap-3">
          <div className="w-72 max-w-full">
            <Line name="email" label="Their mail address" type="email" autoComplete="off" required />
          </div>
          <Choice name="role" label="As" choices={roles.map(({ role }) => [role, role] as const)} />
          <Send className="mb-3">Send an invitation</Send>
        </div>
        <Refused />
        {entry.answer && (
          <p role="status">
            A letter to <b className="font-semibold">{entry.answer.email}</b> is on its way. It is good until{" "}
            {dayAndYear(entry.answer.expires_at)}.
          </p>
        )}
      </Form>
    </section>
  );
}

/** Whoever has the letter of an invitation reads what it is, and makes their own sign-in. */
export function Join() {
  const look = useMutation({
    mutationFn: (token: string) => api.post("/joining/look", { body: { token } }),
  });
  const { mutate } = look;
  useEffect(() => mutate(letterToken()), [mutate]);
  if (look.error)
    return (
      <div className="mx-auto max-w-[420px] pt-6">
        <h1 className="mb-4">Your invitation</h1>
        <Trouble error={look.error} />
        <Link className="figure-link" to="/sign-in">
          Sign in instead
        </Link>
      </div>
    );
  return look.data ? <Accept invitation={look.data} /> : <Waiting words="Reading your invitation" />;
}

function Accept({ invitation: i }: { invitation: Portal["InvitationSeen"] }) {
  const entered = useEntered();
  const entry = useEntry({
    start: { name: "", password: "" },
    send: (typed) => api.post("/joining", { body: { ...typed, token: letterToken() } }),
    done: entered,
  });
  return (
    <Form of={entry} className="mx-auto max-w-[420px] pt-6">
      <h1 className="mb-4">{i.organisation}</h1>
      <p className="mb-4">
        {i.invited_by} invites you to belong to it as <b className="font-semibold">{i.role}</b>.{" "}
        <span className="text-soft">{i.may}</span>
      </p>
      <p className="mb-3">You will sign in with {i.email}.</p>
      <Line name="name" label="Your name" autoComplete="name" required autoFocus />
      <NewPassword name="password" />
      <Refused />
      <Send className="mt-2">Accept the invitation</Send>
    </Form>
  );
}
