import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { me, STALE, scopes, serviceTokens } from "../../api/queries/house";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Choices, digits, Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { count, dayAndMinute, dayAndYear, listed, plural } from "../../kit/format";
import { Table } from "../../kit/table";
import { Aside, Page } from "../frame";
import { inWords } from "../roles";

type Token = Console["ServiceTokenView"];

/** The secrets with which scripts act: whose each is, until when, and when and where it was last used. */
export function ServiceTokens() {
  const makeStale = useStale();
  const list = useQuery(serviceTokens());
  const [making, setMaking] = useState(false);
  const [revoking, setRevoking] = useState<Token | null>(null);
  const stale = () => makeStale(STALE.token);
  return (
    <Page
      title="Service tokens"
      sub="With one, a script does what its owner may do, over the same API as these screens."
      margin={
        <Aside title="What a token can do">
          <p>
            What its roles may do, of those that you have, and nothing else; narrowed to scopes, only that of
            it. It makes no further tokens, and does not count as a second person where two must agree. A role
            that is taken from you is taken from it. Used from a place where it was not used before, that is
            on the record.
          </p>
        </Aside>
      }
    >
      <div className="my-4 text-right">
        <Button onClick={() => setMaking(true)}>Make a token</Button>
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the tokens" />}
      {list.data?.length === 0 && (
        <p className="text-soft">
          There is none yet. A script that charges, exports or applies the tariff needs one.
        </p>
      )}
      {list.data && list.data.length > 0 && (
        <Table
          rows={list.data}
          id={(token) => token.id}
          columns={[
            { head: "For", cell: (token) => token.label },
            {
              head: "Acts",
              cell: (token) => (
                <>
                  as {inWords(token.roles)}, for {token.mine ? "you" : token.owner}
                  {token.scopes.length > 0 && (
                    <div className="text-[12px] text-soft">only to {listed(token.scopes)}</div>
                  )}
                </>
              ),
            },
            {
              head: "Until",
              cell: until,
              look: (token) => (token.state === "active" ? "" : "text-soft"),
            },
            { head: "Last used", cell: used, look: "text-soft" },
            {
              head: "What can be done",
              quiet: true,
              number: true,
              cell: (token) =>
                token.state === "active" && (
                  <WordButton onClick={() => setRevoking(token)}>revoke…</WordButton>
                ),
            },
          ]}
        />
      )}
      {making && <Make onClose={() => setMaking(false)} onMade={stale} />}
      {revoking && <Revoke token={revoking} onClose={() => setRevoking(null)} onDone={stale} />}
    </Page>
  );
}

function until(token: Token): string {
  if (token.revoked_at) return `revoked ${dayAndYear(token.revoked_at)}`;
  return `${token.state === "expired" ? "expired " : ""}${dayAndYear(token.expires_at)}`;
}

function used(token: Token): string {
  if (!token.used_at) return "never";
  const places = token.places > 1 ? `, ${count(token.places)} ${plural(token.places, "place")} in all` : "";
  return `${dayAndMinute(token.used_at)}${token.used_from ? ` from ${token.used_from}` : ""}${places}`;
}

function Make({ onClose, onMade }: { onClose: () => void; onMade: () => unknown }) {
  const mine = useQuery(me()).data?.roles ?? [];
  const all = useQuery(scopes());
  const make = useEntry({
    start: { label: "", roles: mine as string[], scopes: [] as string[], days: 90 },
    send: (body) => api.post("/service-tokens", { body }),
    done: onMade,
  });
  const secret = make.answer?.token;
  return (
    <Dialog open onClose={onClose} title={secret ? "Keep it now" : "Make a service token"}>
      {secret ? (
        <>
          <p className="mb-2">It is shown this once. Where it is lost, make another.</p>
          <output data-testid="secret" className="mb-3 block border border-line bg-paper p-2 break-all">
            {secret}
          </output>
          <Button main onClick={onClose}>
            I have kept it
          </Button>
        </>
      ) : (
        <Form of={make}>
          <Line name="label" label="What it is for" required autoFocus />
          <Line
            name="days"
            label="Good for how many days"
            type="number"
            min={1}
            max={366}
            required
            kept={digits}
            hint="At most 366."
          />
          {mine.length > 1 && (
            <Choices
              name="roles"
              label="As"
              choices={mine.map((role) => [role, role] as const)}
              none="All."
            />
          )}
          {all.data && (
            <Choices
              name="scopes"
              label="Only to"
              choices={all.data.map((scope) => [scope, scope] as const)}
              none="Whatever these roles may do."
            />
          )}
          <Trouble error={all.error} />
          <Refused />
          <Send>Make it</Send>
        </Form>
      )}
    </Dialog>
  );
}

function Revoke({ token, onClose, onDone }: { token: Token; onClose: () => void; onDone: () => unknown }) {
  const revoke = useMutation({
    mutationFn: () => api.delete("/service-tokens/{token_id}", { params: { path: { token_id: token.id } } }),
    onSuccess: () => {
      onDone();
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Revoke ${token.label}`}>
      <p className="mb-3">
        Whatever uses it is turned away from this moment on. {`It was last used: ${used(token)}.`}
      </p>
      <Trouble error={revoke.error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Leave it</Button>
        <Button main disabled={revoke.isPending} onClick={() => revoke.mutate()}>
          Revoke it at once
        </Button>
      </div>
    </Dialog>
  );
}
