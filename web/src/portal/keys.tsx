import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { STALE } from "../api/queries/portal";
import { Button, Dialog, Trouble, WordButton } from "../kit/controls";
import { Choice, Line } from "../kit/fields";
import { Ends, Form, Refused, Send, useEntry } from "../kit/form";
import { dayAndMinute, dayAndYear, listed, plural, untilWhen } from "../kit/format";
import { Table } from "../kit/table";
import { beginning } from "./beginning";
import { KeyWords } from "./key-words";
import { useMe } from "./me";
import { Narrow } from "./narrow";
import { written } from "./tags";

type App = Portal["ApplicationView"];
type Key = App["keys"][number];

/** The keys and secrets of an application. */
export function Keys({ app }: { app: App }) {
  const me = useMe();
  const stale = useStale();
  const [revoking, setRevoking] = useState<Key | null>(null);
  const [rotating, setRotating] = useState<Key | null>(null);
  const [narrowing, setNarrowing] = useState<Key | null>(null);
  const [wording, setWording] = useState<Key | null>(null);
  const [rotated, setRotated] = useState<Portal["NewKey"] | null>(null);
  const make = useEntry({
    start: {
      label: "",
      environment: "live" as "live" | "sandbox",
      made: "key" as "key" | "secret" | "brought" | "certificate",
      first_day: "",
      last_day: "",
      brought: "",
      certificate: "",
    },
    send: async ({ made, brought, certificate, ...typed }) => {
      const environment = app.environment === "live" ? typed.environment : "sandbox";
      if (made === "certificate") {
        await api.post("/applications/{application_id}/certificates", {
          params: { path: { application_id: app.id } },
          body: { label: typed.label, environment, certificate },
        });
        return null;
      }
      return api.post("/applications/{application_id}/keys", {
        params: { path: { application_id: app.id } },
        body: {
          ...typed,
          environment,
          kind: made === "secret" ? "secret" : "key",
          brought: made === "brought" ? brought : "",
          first_day: typed.first_day || null,
          last_day: typed.last_day || null,
        },
      });
    },
    done: (_, typed, form) => {
      form.reset({ ...typed, label: "", first_day: "", last_day: "", brought: "", certificate: "" });
      return stale(STALE.key);
    },
  });
  const { made } = make.form.watch();
  const shown = rotated ?? make.answer;
  const revoke = useMutation({
    mutationFn: (key: number) => api.delete("/keys/{key_id}", { params: { path: { key_id: key } } }),
    onSuccess: () => {
      setRevoking(null);
      stale(STALE.key);
    },
  });
  return (
    <section className="mt-8 max-w-[1000px]">
      <h2 className="text-[20px]">Keys and secrets</h2>
      <p className="text-soft">
        A key alone says who calls. A secret goes with the client id{" "}
        <code className="font-mono text-[13px]">{app.client_id}</code>: by HTTP Basic, or for a token from{" "}
        {me.look.token_endpoint}. Each product says which it takes.
      </p>
      {app.keys.length > 0 && (
        <div className="relative overflow-x-auto">
          <Table
            className="mt-1"
            rows={app.keys}
            id={(k) => k.id}
            columns={[
              { head: "Key", cell: (k) => <code className="font-mono text-[13px]">{k.prefix}…</code> },
              {
                head: "Label",
                cell: (k) => (
                  <>
                    {GOOD.includes(k.state) && k.label !== PASSING ? (
                      <WordButton
                        className="text-left text-[14px]"
                        aria-label={`${k.label}: change the label and tags`}
                        onClick={() => setWording(k)}
                      >
                        {k.label}
                      </WordButton>
                    ) : (
                      k.label
                    )}
                    {k.kind !== "key" && <span className="text-soft">, a {k.kind}</span>}
                    {[narrowed(k), written(k.tags)].filter(Boolean).map((words) => (
                      <div key={words} className="text-[12px] text-soft">
                        {words}
                      </div>
                    ))}
                  </>
                ),
              },
              { head: "Calls", cell: (k) => k.environment },
              {
                head: "State",
                cell: (k) => (
                  <>
                    {k.state}
                    {k.starts_at && new Date(k.starts_at) > new Date() && (
                      <div className="text-[12px] text-soft">from {dayAndYear(k.starts_at)}</div>
                    )}
                    {k.expires_at && (
                      <div className="text-[12px] text-soft">until {untilWhen(k.expires_at)}</div>
                    )}
                  </>
                ),
              },
              {
                head: "Last used",
                cell: (k) => (
                  <>
                    {k.used_at ? dayAndMinute(k.used_at) : "not yet"}
                    {k.used_from && <div className="text-[12px] text-soft">from {k.used_from}</div>}
                  </>
                ),
              },
              { head: "Made", cell: (k) => dayAndYear(k.created_at), look: "whitespace-nowrap" },
              {
                head: "Rotate, narrow or revoke",
                quiet: true,
                number: true,
                look: "whitespace-nowrap",
                cell: (k) => (
                  <>
                    {k.state === "active" && k.kind !== "certificate" && k.label !== PASSING && (
                      <WordButton className="mr-3" onClick={() => setRotating(k)}>
                        rotate
                      </WordButton>
                    )}
                    {GOOD.includes(k.state) && (
                      <>
                        <WordButton className="mr-3" onClick={() => setNarrowing(k)}>
                          narrow
                        </WordButton>
                        <WordButton onClick={() => setRevoking(k)}>revoke</WordButton>
                      </>
                    )}
                  </>
                ),
              },
            ]}
          />
        </div>
      )}
      <Form of={make} className="mt-3">
        <div className="flex flex-wrap items-end gap-3">
          <Choice
            name="made"
            label="Make"
            choices={[
              ["key", "a key"],
              ["secret", "a secret for the client id"],
              ["brought", "a key that I bring along"],
              ["certificate", "a client certificate a credential"],
            ]}
          />
          {made === "brought" && (
            <div className="w-80 max-w-full">
              <Line
                name="brought"
                label="The key that you bring along"
                type="password"
                autoComplete="off"
                placeholder="32 random characters or more"
                required
              />
            </div>
          )}
          {made === "certificate" && (
            <div className="w-full">
              <Line
                name="certificate"
                label="The certificate, in PEM form"
                area
                required
                hint="The certificate alone, never its private key. It is good for as long as it says itself."
              />
            </div>
          )}
          <div className="w-44">
            <Line name="label" label="Label of a new key" placeholder="server" />
          </div>
          {app.environment === "live" && (
            <Choice
              name="environment"
              label="It calls"
              choices={[
                ["live", "live"],
                ["sandbox", "the sandbox"],
              ]}
            />
          )}
          {made !== "certificate" && (
            <>
              <div className="w-36">
                <Line name="first_day" label="Good from" type="date" />
              </div>
              <div className="w-36">
                <Line name="last_day" label="Good until the end of" type="date" />
              </div>
            </>
          )}
          <Send className="mb-3">{SENDS[made]}</Send>
        </div>
        <Refused />
      </Form>
      {shown && (
        <NewKey
          secret={shown.secret}
          header={app.plans[0]?.key_header ?? "X-API-Key"}
          kind={shown.key.kind}
          client={app.client_id}
          gateway={me.look.gateway}
          onClose={() => {
            setRotated(null);
            make.again();
          }}
        />
      )}
      {wording && <KeyWords of={wording} onClose={() => setWording(null)} />}
      {narrowing && <Narrow of={narrowing} application={app.id} onClose={() => setNarrowing(null)} />}
      {rotating && (
        <Rotate
          of={rotating}
          onClose={() => setRotating(null)}
          onMade={(made) => {
            setRotating(null);
            setRotated(made);
          }}
        />
      )}
      {revoking && (
        <Dialog open onClose={() => setRevoking(null)} title={`Revoke ${revoking.prefix}…`}>
          <p>
            Calls of {app.name} with this key are refused from now on, within a second. It cannot be brought
            back.
          </p>
          <Trouble error={revoke.error} />
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={() => setRevoking(null)}>Keep it</Button>
            <Button main disabled={revoke.isPending} onClick={() => revoke.mutate(revoking.id)}>
              Revoke the key
            </Button>
          </div>
        </Dialog>
      )}
    </section>
  );
}

/** What a key is narrowed to, in words; nothing where it is to nothing. */
function narrowed(of: Key): string {
  const parts = [
    of.addresses.length > 0 && `from ${listed(of.addresses)}`,
    of.operations.length > 0 && `for ${plural(of.operations.length, "operation")}`,
  ];
  return parts.filter(Boolean).join(", ");
}

const GOOD = ["active", "retiring"];
const SENDS = {
  key: "Make a key",
  secret: "Make a secret",
  brought: "Make a key",
  certificate: "Bring the certificate",
};
/** What a key is called that was made to try calls with, and lives an hour. */
const PASSING = "for an hour";

/** A new key in place of one that serves on for a while, so that programs can be given it one after the other. */
function Rotate({
  of,
  onClose,
  onMade,
}: {
  of: Key;
  onClose: () => void;
  onMade: (made: Portal["NewKey"]) => void;
}) {
  const stale = useStale();
  const entry = useEntry({
    start: { hours: "24" },
    send: ({ hours }) =>
      api.post("/keys/{key_id}/rotation", {
        params: { path: { key_id: of.id } },
        body: { hours: Number(hours) },
      }),
    done: async (made) => {
      await stale(STALE.key);
      onMade(made);
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Rotate ${of.prefix}…`}>
      <p className="mb-3">
        A new {of.kind} takes its place, under the same label. Both serve until the old one retires.
      </p>
      <Form of={entry}>
        <Choice
          name="hours"
          label="The old one serves for"
          choices={[
            ["1", "an hour more"],
            ["24", "a day more"],
            ["168", "a week more"],
            ["720", "thirty days more"],
          ]}
        />
        <Ends leave="Keep it as it is" onLeave={onClose}>
          <Send>Make the new {of.kind}</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

function NewKey({
  secret,
  kind,
  client,
  gateway,
  header,
  onClose,
}: {
  secret: string;
  kind: string;
  client: string;
  gateway: string;
  header: string;
  onClose: () => void;
}) {
  const [copied, setCopied] = useState(false);
  return (
    <Dialog open onClose={onClose} title={kind === "key" ? "Your new key" : "Your new secret"}>
      <p>It is shown this once. Keep it where your application finds it.</p>
      <p className="my-3 flex items-center gap-3">
        <code
          data-testid="secret"
          className="bg-(--portal-tint) px-2.5 py-1.5 font-mono text-[13px] break-all"
        >
          {secret}
        </code>
        <Button small onClick={() => navigator.clipboard.writeText(secret).then(() => setCopied(true))}>
          {copied ? "Copied" : "Copy"}
        </Button>
      </p>
      <pre className="bg-(--portal-tint) p-3 font-mono text-[12px] break-all whitespace-pre-wrap">
        {kind === "key"
          ? `curl -H "${header}: ${beginning(secret)}…" ${gateway}/…`
          : `curl -u "${client}:${beginning(secret)}…" ${gateway}/…`}
      </pre>
      <div className="mt-4 text-right">
        <Button main onClick={onClose}>
          I have kept it
        </Button>
      </div>
    </Dialog>
  );
}
