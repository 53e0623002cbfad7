import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api } from "../../api/console";
import { entered, useStale } from "../../api/queries/asking";
import { houseInvitations, STALE } from "../../api/queries/house";
import { Trouble } from "../../kit/controls";
import { Choices, Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { InvitationSent, InvitedTable, JoinByLetter } from "../../kit/invited";
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
        {entry.answer && <InvitationSent invited={entry.answer} />}
      </Form>
    </section>
  );
}

/** Who was invited and has not come. */
export function Invitations() {
  const stale = useStale();
  const list = useQuery(houseInvitations());
  return (
    <>
      <Trouble error={list.error} />
      <InvitedTable
        of={list.data ?? []}
        as={(i) => inWords(i.roles)}
        takeBack={(id) =>
          api.delete("/house/invitations/{invitation_id}", { params: { path: { invitation_id: id } } })
        }
        done={() => stale(STALE.houseInvitations)}
      />
    </>
  );
}

/** Whoever has the letter of an invitation makes their own sign-in. */
export function Join() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  return (
    <main className="mx-auto max-w-[420px] px-8 pt-[14vh]">
      <JoinByLetter
        look={(token) => api.post("/joining/look", { body: { token } })}
        join={(body) => api.post("/joining", { body })}
        done={async () => {
          navigate("/", { replace: true });
          await entered(queries);
        }}
        instead="/"
      >
        {(seen) => (
          <>
            <h1 className="mb-4">{seen.provider}</h1>
            <p className="mb-4">
              {seen.invited_by} invites you to work here as{" "}
              <b className="font-semibold">{inWords(seen.roles)}</b>.
            </p>
          </>
        )}
      </JoinByLetter>
    </main>
  );
}
