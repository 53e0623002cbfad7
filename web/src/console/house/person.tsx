import { useMutation, useQuery } from "@tanstack/react-query";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { personSessions, STALE } from "../../api/queries/house";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Choices } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { dayAndMinute, dayAndYear, plural } from "../../kit/format";
import { browserWords } from "../../kit/sessions";
import { type HouseRole, ROLES } from "../roles";

type Person = Console["PersonView"];

/** One of the provider's people: what they may do, where they are signed in, and whether they can be. */
export function PersonDialog({ of, onClose }: { of: Person; onClose: () => void }) {
  return (
    <Dialog open onClose={onClose} title={of.name} wide>
      <p className="mb-4 text-soft">
        {of.email}
        {of.joined_at && `, here since ${dayAndYear(of.joined_at)}`}
      </p>
      {of.deactivated_at ? (
        <LetInAgain of={of} />
      ) : (
        <>
          <Roles of={of} />
          <Sessions of={of} />
          {of.factor && !of.me && <Factor of={of} />}
          <Deactivate of={of} />
        </>
      )}
    </Dialog>
  );
}

function Roles({ of }: { of: Person }) {
  const stale = useStale();
  const entry = useEntry({
    start: { roles: of.roles },
    send: (body) =>
      api.put("/house/people/{person_id}/roles", { params: { path: { person_id: of.id } }, body }),
    done: () => stale(of.me ? STALE.ownRoles : STALE.person),
  });
  return (
    <Form of={entry} className="mb-5">
      <Choices<HouseRole>
        name="roles"
        label={`What ${of.name} may do`}
        choices={ROLES.map(([role]) => [role, role] as const)}
        none="At least one."
      />
      <Refused />
      <Send>Keep these roles</Send>
      {entry.answer && (
        <span role="status" className="ml-3 text-soft">
          Kept: {entry.answer.roles.join(" and ")}.
        </span>
      )}
    </Form>
  );
}

function Sessions({ of }: { of: Person }) {
  const stale = useStale();
  const list = useQuery(personSessions(of.id));
  const end = useMutation({
    mutationFn: () =>
      api.delete("/house/people/{person_id}/sessions", { params: { path: { person_id: of.id } } }),
    onSuccess: () => stale(STALE.person),
  });
  return (
    <section aria-label="Sessions" className="mb-5">
      <h3 className="mb-1 font-semibold">Where {of.name} is signed in</h3>
      <Trouble error={list.error ?? end.error} />
      {list.isPending && <Waiting words="Looking where" />}
      {list.data?.length === 0 && <p className="text-soft">Nowhere.</p>}
      {list.data?.map((s) => (
        <p key={s.id} className="py-0.5">
          {browserWords(s.browser)}
          {s.address && ` from ${s.address}`}, since {dayAndMinute(s.began_at)}, last used{" "}
          {dayAndMinute(s.seen_at)}
        </p>
      ))}
      {!of.me && (list.data?.length ?? 0) > 0 && (
        <WordButton disabled={end.isPending} onClick={() => end.mutate()}>
          end {plural(list.data?.length ?? 0, "session")}
        </WordButton>
      )}
    </section>
  );
}

/** For somebody who has lost what shows the codes. */
function Factor({ of }: { of: Person }) {
  const stale = useStale();
  const take = useMutation({
    mutationFn: () =>
      api.delete("/house/people/{person_id}/second-factor", { params: { path: { person_id: of.id } } }),
    onSuccess: () => stale(STALE.person),
  });
  return (
    <section aria-label="Second factor" className="mb-5">
      <h3 className="mb-1 font-semibold">A second factor</h3>
      <p>
        {of.name} shows a code at the sign-in.{" "}
        <WordButton disabled={take.isPending} onClick={() => take.mutate()}>
          it is lost: turn it off
        </WordButton>
      </p>
      <Trouble error={take.error} />
    </section>
  );
}

function Deactivate({ of }: { of: Person }) {
  const stale = useStale();
  const deactivate = useMutation({
    mutationFn: () =>
      api.put("/house/people/{person_id}/deactivation", { params: { path: { person_id: of.id } } }),
    onSuccess: () => stale(STALE.person),
  });
  return (
    <section aria-label="Deactivate">
      <p className="mb-2 max-w-[60ch] text-soft">
        Deactivated, {of.name} can sign in no more; sessions and service tokens end at once. What they did
        stays under their name.
      </p>
      <Trouble error={deactivate.error} />
      <Button disabled={deactivate.isPending} onClick={() => deactivate.mutate()}>
        Deactivate {of.name}
      </Button>
    </section>
  );
}

function LetInAgain({ of }: { of: Person }) {
  const stale = useStale();
  const again = useMutation({
    mutationFn: () =>
      api.delete("/house/people/{person_id}/deactivation", { params: { path: { person_id: of.id } } }),
    onSuccess: () => stale(STALE.person),
  });
  return (
    <section aria-label="Let in again">
      <p className="mb-2">
        {of.name} cannot sign in since {of.deactivated_at && dayAndYear(of.deactivated_at)}.
      </p>
      <Trouble error={again.error} />
      <Button main disabled={again.isPending} onClick={() => again.mutate()}>
        Let {of.name} in again, as {of.roles.join(" and ")}
      </Button>
    </section>
  );
}
