import { useMutation, useQuery } from "@tanstack/react-query";
import { api, type Console } from "../../api/console";
import { invitations, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { Trouble, Waiting, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { dayAndYear } from "../../kit/format";

/** Whoever was invited to a portal and has not answered, and another. */
export function Invitations({ portal }: { portal: Console["PortalView"] }) {
  const stale = useStale();
  const list = useQuery(invitations(portal.id));
  const path = { portal_id: portal.id };
  const entry = useEntry({
    start: { email: "" },
    send: (body) => api.post("/portals/{portal_id}/invitations", { params: { path }, body }),
    afresh: true,
    done: () => stale(STALE.invitation),
  });
  const back = useMutation({
    mutationFn: (email: string) =>
      api.delete("/portals/{portal_id}/invitations", { params: { path, query: { email } } }),
    onSettled: () => stale(STALE.invitation),
  });
  return (
    <>
      <Trouble error={list.error ?? back.error} />
      {list.isPending && <Waiting words="Reading the invitations" />}
      {list.data?.length === 0 && <p className="mb-2 text-soft">Nobody is invited at the moment.</p>}
      {list.data?.map((one) => (
        <p key={one.email} className="flex gap-3 border-b border-line-soft py-1.5">
          <span className="flex-1">
            {one.email}{" "}
            <span className="text-soft">
              by {one.invited_by}, {one.over ? "over since" : "until"} {dayAndYear(one.expires_at)}
            </span>
          </span>
          <WordButton
            aria-label={`take back the invitation of ${one.email}`}
            onClick={() => back.mutate(one.email)}
          >
            take back
          </WordButton>
        </p>
      ))}
      <Form of={entry} className="mt-2">
        <div className="flex items-end gap-3">
          <div className="flex-1">
            <Line name="email" label="E-mail address of whoever may make an account" type="email" required />
          </div>
          <Send main={false} className="mb-3">
            Invite
          </Send>
        </div>
        <Refused />
      </Form>
    </>
  );
}
