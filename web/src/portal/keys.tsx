import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { STALE } from "../api/queries/portal";
import { Choose } from "../kit/choose";
import { Button, Dialog, Field, Trouble, WordButton } from "../kit/controls";
import { dayAndYear, untilWhen } from "../kit/format";
import { useMe } from "./app";

type App = Portal["ApplicationView"];

/** The keys and secrets of an application. */
export function Keys({ app }: { app: App }) {
  const me = useMe();
  const stale = useStale();
  const [label, setLabel] = useState("");
  const [environment, setEnvironment] = useState<"live" | "sandbox">("live");
  const [kind, setKind] = useState<"key" | "secret">("key");
  const [lastDay, setLastDay] = useState("");
  const [revoking, setRevoking] = useState<App["keys"][number] | null>(null);
  const make = useMutation({
    mutationFn: () =>
      api.post("/applications/{application_id}/keys", {
        params: { path: { application_id: app.id } },
        body: {
          label,
          environment,
          kind,
          last_day: lastDay || null,
        },
      }),
    onSuccess: () => {
      setLabel("");
      setLastDay("");
      stale(STALE.key);
    },
  });
  const revoke = useMutation({
    mutationFn: (key: number) => api.delete("/keys/{key_id}", { params: { path: { key_id: key } } }),
    onSuccess: () => {
      setRevoking(null);
      stale(STALE.key);
    },
  });
  return (
    <section className="mt-8 max-w-[760px]">
      <h2 className="text-[20px]">Keys and secrets</h2>
      <p className="text-soft">
        A key alone says who calls. A secret goes with the client id{" "}
        <code className="font-mono text-[13px]">{app.client_id}</code>: by HTTP Basic, or for a token from{" "}
        {me.look.token_endpoint}. Each product says which it takes.
      </p>
      {app.keys.length > 0 && (
        <table className="plain-table mt-1">
          <thead>
            <tr>
              <th>Key</th>
              <th>Label</th>
              <th>Calls</th>
              <th>State</th>
              <th>Good until</th>
              <th>Made</th>
              <th>
                <span className="sr-only">Revoke</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {app.keys.map((k) => (
              <tr key={k.id}>
                <td>
                  <code className="font-mono text-[13px]">{k.prefix}…</code>
                </td>
                <td>
                  {k.label}
                  {k.kind === "secret" && <span className="text-soft">, a secret</span>}
                </td>
                <td>{k.environment}</td>
                <td>{k.state}</td>
                <td>{k.expires_at ? untilWhen(k.expires_at) : "it is revoked"}</td>
                <td>{dayAndYear(k.created_at)}</td>
                <td className="number">
                  {k.state === "active" && <WordButton onClick={() => setRevoking(k)}>revoke</WordButton>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <form
        className="mt-3 flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Choose
          label="Make"
          value={kind}
          choices={[
            ["key", "a key"],
            ["secret", "a secret for the client id"],
          ]}
          onChange={setKind}
        />
        <div className="w-44">
          <Field label="Label of a new key" value={label} onChange={setLabel} placeholder="server" />
        </div>
        <Choose
          label="It calls"
          value={environment}
          choices={[
            ["live", "live"],
            ["sandbox", "the sandbox"],
          ]}
          onChange={setEnvironment}
        />
        <div className="w-40">
          <Field label="Good until the end of" type="date" value={lastDay} onChange={setLastDay} />
        </div>
        <Button main type="submit" disabled={make.isPending} className="mb-3">
          {kind === "key" ? "Make a key" : "Make a secret"}
        </Button>
      </form>
      <Trouble error={make.error} />
      {make.data && (
        <NewKey
          secret={make.data.secret}
          header={app.plans[0]?.key_header ?? "X-API-Key"}
          kind={make.data.key.kind}
          client={app.client_id}
          gateway={me.look.gateway}
          onClose={() => make.reset()}
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

/** The application's own words, which back ends may be told. */
export function Tags({ app }: { app: App }) {
  const stale = useStale();
  const kept = Object.entries(app.tags)
    .map(([name, value]) => `${name}=${value}`)
    .join(", ");
  const [words, setWords] = useState(kept);
  const save = useMutation({
    mutationFn: () =>
      api.put("/applications/{application_id}/tags", {
        params: { path: { application_id: app.id } },
        body: {
          tags: Object.fromEntries(
            words
              .split(",")
              .map((pair) => pair.split("=").map((part) => part.trim()))
              .filter(([name]) => name)
              .map(([name = "", value = ""]) => [name, value]),
          ),
        },
      }),
    onSuccess: () => stale(STALE.key),
  });
  return (
    <form
      className="mt-8 flex max-w-[760px] items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <div className="flex-1">
        <Field
          label="Tags, passed on where an API wants to know who calls"
          placeholder="region=west, ship=17"
          value={words}
          onChange={setWords}
        />
        <Trouble error={save.error} />
      </div>
      <Button type="submit" disabled={save.isPending || words === kept} className="mb-3">
        Save the tags
      </Button>
    </form>
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
        <code data-testid="secret" className="bg-[#F1F5F9] px-2.5 py-1.5 font-mono text-[13px] break-all">
          {secret}
        </code>
        <Button small onClick={() => navigator.clipboard.writeText(secret).then(() => setCopied(true))}>
          {copied ? "Copied" : "Copy"}
        </Button>
      </p>
      <pre className="bg-[#F1F5F9] p-3 font-mono text-[12px] break-all whitespace-pre-wrap">
        {kind === "key"
          ? `curl -H "${header}: ${secret.slice(0, 12)}…" ${gateway}/…`
          : `curl -u "${client}:${secret.slice(0, 12)}…" ${gateway}/…`}
      </pre>
      <div className="mt-4 text-right">
        <Button main onClick={onClose}>
          I have kept it
        </Button>
      </div>
    </Dialog>
  );
}
