import { api, type Portal } from "../../api/portal";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/portal";
import { Choice, Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { InvitationSent, InvitedTable, JoinByLetter } from "../../kit/invited";
import { useEntered } from "../entered";

type Organisation = Portal["OrganisationView"];
type Invited = Organisation["invited"][number];

/** Who was invited and has not come. */
export function Invitations({ of }: { of: Invited[] }) {
  const stale = useStale();
  return (
    <InvitedTable
      className="relative overflow-x-auto"
      of={of}
      as={(i) => i.role}
      takeBack={(id) =>
        api.delete("/invitations/{invitation_id}", { params: { path: { invitation_id: id } } })
      }
      done={() => stale(STALE.organisation)}
    />
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
        {entry.answer && <InvitationSent invited={entry.answer} />}
      </Form>
    </section>
  );
}

/** Whoever has the letter of an invitation makes their own sign-in. */
export function Join() {
  return (
    <div className="mx-auto max-w-[420px] pt-6">
      <JoinByLetter
        look={(token) => api.post("/joining/look", { body: { token } })}
        join={(body) => api.post("/joining", { body })}
        done={useEntered()}
        instead="/sign-in"
      >
        {(seen) => (
          <>
            <h1 className="mb-4">{seen.organisation}</h1>
            <p className="mb-4">
              {seen.invited_by} invites you to belong to it as <b className="font-semibold">{seen.role}</b>.{" "}
              <span className="text-soft">{seen.may}</span>
            </p>
          </>
        )}
      </JoinByLetter>
    </div>
  );
}
