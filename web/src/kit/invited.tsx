import { useMutation } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import { Trouble, Waiting, WordButton } from "./controls";
import { Line } from "./fields";
import { Form, Refused, Send, useEntry } from "./form";
import { day, dayAndYear } from "./format";
import { letterToken, NewPassword } from "./signing-in";
import { Table } from "./table";

type Invited = {
  id: number;
  email: string;
  invited_by: string;
  invited_at: string;
  expires_at: string;
  over: boolean;
};

/** Who was invited, as what, and has not come; each invitation can be taken back. */
export function InvitedTable<I extends Invited>({
  of,
  as,
  takeBack,
  done,
  className = "",
}: {
  of: I[];
  as: (invited: I) => string;
  takeBack: (id: number) => Promise<unknown>;
  done: () => unknown;
  className?: string;
}) {
  const taking = useMutation({ mutationFn: takeBack, onSuccess: done });
  if (of.length === 0) return null;
  return (
    <section aria-label="Invited" className={`mt-6 ${className}`}>
      <h2 className="text-[18px]">Invited</h2>
      <Table
        rows={of}
        id={(i) => i.id}
        columns={[
          { head: "Mail address", names: true, cell: (i) => i.email },
          { head: "As", cell: as },
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
              <WordButton disabled={taking.isPending} onClick={() => taking.mutate(i.id)}>
                take it back
              </WordButton>
            ),
          },
        ]}
      />
      <Trouble error={taking.error} />
    </section>
  );
}

/** That a letter with an invitation is on its way. */
export function InvitationSent({ invited: i }: { invited: { email: string; expires_at: string } }) {
  return (
    <p role="status" className="mt-2">
      A letter to <b className="font-semibold">{i.email}</b> is on its way. It is good until{" "}
      {dayAndYear(i.expires_at)}.
    </p>
  );
}

type Typed = { name: string; password: string; token: string };

/** Whoever has the letter of an invitation reads what it is, and makes their own sign-in. */
export function JoinByLetter<S extends { email: string }>({
  look,
  join,
  done,
  instead,
  children,
}: {
  look: (token: string) => Promise<S>;
  join: (typed: Typed) => Promise<unknown>;
  done: () => unknown;
  /** Where one signs in instead. */
  instead: string;
  /** Who invites whom, to what. */
  children: (seen: S) => React.ReactNode;
}) {
  const looking = useMutation({ mutationFn: look });
  const { mutate } = looking;
  useEffect(() => mutate(letterToken()), [mutate]);
  const entry = useEntry({
    start: { name: "", password: "" },
    send: (typed) => join({ ...typed, token: letterToken() }),
    done,
  });
  if (looking.error)
    return (
      <>
        <h1 className="mb-4">Your invitation</h1>
        <Trouble error={looking.error} />
        <Link className="figure-link" to={instead}>
          Sign in instead
        </Link>
      </>
    );
  if (!looking.data) return <Waiting words="Reading your invitation" />;
  return (
    <Form of={entry}>
      {children(looking.data)}
      <p className="mb-3">You will sign in with {looking.data.email}.</p>
      <Line name="name" label="Your name" autoComplete="name" required autoFocus />
      <NewPassword name="password" />
      <Refused />
      <Send className="mt-2">Accept the invitation</Send>
    </Form>
  );
}
