import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { entered, useStale } from "../../api/queries/asking";
import { houseInvitations, STALE } from "../../api/queries/house";
import { Trouble, Waiting, WordButton } from "../../kit/controls";
import { Choices, Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { day, dayAndYear } from "../../kit/format";
import { letterToken, NewPassword } from "../../kit/signing-in";
import { Table } from "../../kit/table";
import { type HouseRole, inWords, ROLES } from "../roles";

/** Somebody is invited to work here by mail, as one role or several. */
export function Invite() {
  const stale = useStale();
  const entry = useEntry({
    start: { email: "", roles: [] as HouseRole[] },
    send: (body) => api.post("/house/invitations", { body }),
    done: () => stale(STALE.houseInvitations),
    afresh: true,
  });
  return (
    <section aria-label="Invite a colleague" className="mt-8">
      <h2 className="mb-1 text-[18px]">Invite a colleague</h2>
      <Form of={entry}>
        <div className="w-80">
          <Line name="email" label="Their mail address" type="email" autoComplete="off" required />
        </div>
        <Choices<HouseRole>
          name="roles"
          label="As"
          choices={ROLES.map(([role]) => [role, role] as const)}
          none="At least one."
        />
        <Refused />
        <Send>Send an invitation</Send>
        {entry.answer && (
          <p role="status" className="mt-2">
            A letter to <b className="font-semibold">{entry.answer.email}</b> is on its way. It is good until{" "}
            {dayAndYear(entry.answer.expires_at)}.
          </p>
        )}
      </Form>
    </section>
  );
}

/** Who was invited and has not come. */
export function Invitations() {
  const stale = useStale();
  const list = useQuery(houseInvitations());
  const takeBack = useMutation({
    mutationFn: (id: number) =>
      api.delete("/house/invitations/{invitation_id}", { params: { path: { invitation_id: id } } }),
    onSuccess: () => stale(STALE.houseInvitations),
  });
  if (!list.data?.length) return <Trouble error={list.error} />;
  return (
    <section aria-label="Invited" className="mt-6">
      <h2 className="text-[18px]">Invited</h2>
      <Table
        rows={list.data}
        id={(i) => i.id}
        columns={[
          { head: "Mail address", names: true, cell: (i) => i.email },
          { head: "As", cell: (i) => inWords(i.roles) },
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

/** Whoever has the letter of an invitation reads what it is, and makes their own sign-in. */
export function Join() {
  const look = useMutation({
    mutationFn: (token: string) => api.post("/joining/look", { body: { token } }),
  });
  const { mutate } = look;
  useEffect(() => mutate(letterToken()), [mutate]);
  return (
    <main className="mx-auto max-w-[420px] px-8 pt-[14vh]">
      {look.error ? (
        <>
          <h1 className="mb-4">Your invitation</h1>
          <Trouble error={look.error} />
          <Link className="figure-link" to="/">
            Sign in instead
          </Link>
        </>
      ) : look.data ? (
        <Accept invitation={look.data} />
      ) : (
        <Waiting words="Reading your invitation" />
      )}
    </main>
  );
}

function Accept({ invitation: i }: { invitation: Console["LetterSeen"] }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const entry = useEntry({
    start: { name: "", password: "" },
    send: (typed) => api.post("/joining", { body: { ...typed, token: letterToken() } }),
    done: async () => {
      navigate("/", { replace: true });
      await entered(queries);
    },
  });
  return (
    <Form of={entry}>
      <h1 className="mb-4">{i.provider}</h1>
      <p className="mb-4">
        {i.invited_by} invites you to work here as <b className="font-semibold">{inWords(i.roles)}</b>.
      </p>
      <p className="mb-3">You will sign in with {i.email}.</p>
      <Line name="name" label="Your name" autoComplete="name" required autoFocus />
      <NewPassword name="password" />
      <Refused />
      <Send className="mt-2">Accept the invitation</Send>
    </Form>
  );
}
