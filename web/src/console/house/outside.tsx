import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { entered, useStale } from "../../api/queries/asking";
import { houseProvider, STALE } from "../../api/queries/house";
import { Several } from "../../kit/choose";
import { Dialog, Refusal, Trouble, WordButton } from "../../kit/controls";
import { Line, Own } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { CameBack } from "../../kit/outside";
import { type HouseRole, inWords, ROLES } from "../roles";

type Provider = Console["HouseProviderView"];

/** Where the house's provider sends people back to, with its answer. */
export function CameIn({ me }: { me: Console["Me"] }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  return (
    <main className="mx-auto max-w-[420px] px-8 pt-[14vh]">
      <CameBack
        provider={me.signs_in_through}
        take={(body) => api.post("/session/outside/answer", { body })}
        show={(body) => api.post("/session/outside/code", { body })}
        done={async () => {
          navigate("/", { replace: true });
          await entered(queries);
        }}
        begin="/"
      />
    </main>
  );
}

/** The outside provider that people may sign in through, as an owner of the house sets it. */
export function OutsideProvider() {
  const stale = useStale();
  const provider = useQuery(houseProvider());
  const [changing, setChanging] = useState(false);
  const remove = useMutation({
    mutationFn: () => api.delete("/house/identity-provider", {}),
    onSuccess: () => stale(STALE.houseProvider),
  });
  const of = provider.data;
  return (
    <>
      <Trouble error={provider.error ?? remove.error} />
      {of && (
        <>
          <p>
            {of.name
              ? `People may sign in through ${of.name} (${of.issuer}).`
              : "Nobody signs in through another system."}
          </p>
          {of.role_claim && (
            <p className="mt-1">
              Its claim <b className="font-semibold">{of.role_claim}</b> gives roles at each sign-in:{" "}
              {Object.entries(of.roles_by)
                .map(([value, roles]) => `${value} ${inWords(roles)}`)
                .join("; ")}
              . Whoever it gives none is not let in.
            </p>
          )}
          <p className="mt-1">
            <WordButton className="mr-3" onClick={() => setChanging(true)}>
              {of.name ? "change it…" : "name a provider…"}
            </WordButton>
            {of.name && (
              <WordButton disabled={remove.isPending} onClick={() => remove.mutate()}>
                no longer
              </WordButton>
            )}
          </p>
        </>
      )}
      {of && changing && <ProviderDialog of={of} onClose={() => setChanging(false)} />}
    </>
  );
}

type Gives = { value: string; roles: HouseRole[] };

function ProviderDialog({ of, onClose }: { of: Provider; onClose: () => void }) {
  const stale = useStale();
  const entry = useEntry({
    start: {
      name: of.name,
      issuer: of.issuer,
      client_id: of.client_id,
      client_secret: "",
      role_claim: of.role_claim,
      roles_by: Object.entries(of.roles_by).map(([value, roles]) => ({ value, roles })) as Gives[],
    },
    send: ({ roles_by, ...body }) =>
      api.put("/house/identity-provider", {
        body: {
          ...body,
          roles_by: Object.fromEntries(roles_by.map(({ value, roles }) => [value.trim(), roles])),
        },
      }),
    done: async () => {
      await stale(STALE.houseProvider);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title="Who tells us who somebody is" wide>
      <Form of={entry}>
        <p className="mb-3 text-soft">
          By OpenID Connect. Tell the provider to send people back to{" "}
          <code className="text-ink">{of.back}</code>.
        </p>
        <Line name="name" label="What people call it" required autoFocus />
        <Line name="issuer" label="Its issuer’s address" type="url" required />
        <Line name="client_id" label="Our client id there" required />
        <Line
          name="client_secret"
          label="Our secret there"
          type="password"
          autoComplete="off"
          required={!of.name}
          hint={of.name ? "Empty: the one that is kept stays." : undefined}
        />
        <Line
          name="role_claim"
          label="The claim that gives roles"
          hint="Empty: only those who were invited sign in, with the roles they have here."
        />
        <Own<Gives[]> name="roles_by">{(field) => <RolesBy {...field} />}</Own>
        <Ends onLeave={onClose}>
          <Send>Keep it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

/** Which roles each value of the claim gives. */
function RolesBy({
  value,
  onChange,
  error,
}: {
  value: Gives[];
  onChange: (value: Gives[]) => void;
  error?: string;
}) {
  const set = (at: number, part: Partial<Gives>) =>
    onChange(value.map((one, n) => (n === at ? { ...one, ...part } : one)));
  return (
    <section aria-label="Values and their roles" className="mb-3">
      {value.map((one, at) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a row is its place
        <div key={at} className="flex flex-wrap items-start gap-x-4">
          <label className="text-[13px] text-soft">
            Value
            <input
              className="field text-ink"
              value={one.value}
              onChange={(e) => set(at, { value: e.target.value })}
            />
          </label>
          <Several<HouseRole>
            label={`gives, where it is ${one.value || "that"}`}
            chosen={one.roles}
            choices={ROLES.map(([role]) => [role, role] as const)}
            none="At least one."
            onChange={(roles) => set(at, { roles })}
          />
          <WordButton onClick={() => onChange(value.filter((_, n) => n !== at))}>take away</WordButton>
        </div>
      ))}
      <WordButton onClick={() => onChange([...value, { value: "", roles: [] }])}>
        a value that gives roles
      </WordButton>
      {error && <Refusal>{error}</Refusal>}
    </section>
  );
}
