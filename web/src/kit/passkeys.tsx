import { type UseQueryOptions, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Problem } from "../api/problem";
import { Button, Dialog, Trouble, Waiting, WordButton } from "./controls";
import { Line } from "./fields";
import { Ends, Form, Refused, Send, useEntry } from "./form";
import { dayAndMinute, dayAndYear } from "./format";
import { Code, useCode } from "./signing-in";
import { Table } from "./table";

type Passkey = { id: number; label: string; host: string; made_at: string; used_at: string | null };
type Json = Record<string, unknown>;
type Making = {
  begin: (typed: { password: string; code: string }) => Promise<Json>;
  keep: (made: { label: string; passkey: Json }) => Promise<unknown>;
};
type Props = Making & {
  /** The query of one's own passkeys. */
  own: UseQueryOptions<Passkey[], Error, Passkey[], readonly unknown[]>;
  end: (id: number, typed: { password: string }) => Promise<unknown>;
};

/** Why this browser has no passkeys for this page; nothing where it has. */
function why(): string {
  const at = window.location.hostname;
  if (/^[\d.]+$|:/.test(at)) return `Passkeys are for pages at a name, and these are at ${at}.`;
  const has = "PublicKeyCredential" in window && "parseCreationOptionsFromJSON" in PublicKeyCredential;
  return has ? "" : "This browser makes no passkeys for this page.";
}

/** What the browser makes or finds, once its owner has unlocked it. */
async function unlocked(asking: Promise<Credential | null>): Promise<Json> {
  try {
    return ((await asking) as PublicKeyCredential).toJSON() as unknown as Json;
  } catch (error) {
    if (error instanceof DOMException && error.name === "InvalidStateError")
      throw new Problem(0, "", "A passkey of yours is there already");
    throw new Problem(0, "", "Nothing was unlocked, or not in time");
  }
}

/** One's own passkeys: made, and removed. */
export function Passkeys({ own, begin, keep, end }: Props) {
  const list = useQuery(own);
  const [ending, setEnding] = useState<Passkey | null>(null);
  const none = why();
  return (
    <section className="mt-8 max-w-[760px]" aria-label="Passkeys">
      <h2 className="mb-1 text-[20px]">Passkeys</h2>
      <p className="mb-3 max-w-[68ch] text-soft">
        A telephone, a computer or a stick that you unlock signs you in by itself, without password and code,
        and at no page but ours. {none}
      </p>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Looking for yours" />}
      {list.data && list.data.length > 0 && (
        <Table
          className="mb-3 text-[14px]"
          rows={list.data}
          id={(one) => String(one.id)}
          columns={[
            {
              head: "Passkey",
              cell: (one) => (
                <>
                  {one.label} <span className="text-[12px] text-soft">for {one.host}</span>
                </>
              ),
            },
            { head: "Made", cell: (one) => dayAndYear(one.made_at) },
            { head: "Last used", cell: (one) => (one.used_at ? dayAndMinute(one.used_at) : "not yet") },
            {
              head: "Remove",
              quiet: true,
              number: true,
              cell: (one) => <WordButton onClick={() => setEnding(one)}>remove</WordButton>,
            },
          ]}
        />
      )}
      {!none && <Make begin={begin} keep={keep} onMade={list.refetch} />}
      {ending && (
        <Remove
          of={ending}
          end={end}
          onClose={() => setEnding(null)}
          onRemoved={async () => {
            setEnding(null);
            await list.refetch();
          }}
        />
      )}
    </section>
  );
}

function Make({ begin, keep, onMade }: Making & { onMade: () => unknown }) {
  const { asked, first } = useCode();
  const entry = useEntry({
    start: { label: "", password: "", code: "" },
    send: (typed) =>
      first(typed, async ({ label, password, code }) => {
        const options = await begin({ password, code });
        const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(options as never);
        await keep({ label, passkey: await unlocked(navigator.credentials.create({ publicKey })) });
      }),
    done: (made, _, form) => {
      if (!made) return;
      form.reset();
      onMade();
    },
  });
  return (
    <Form of={entry} className="max-w-[420px]">
      <Line name="label" label="What you call it" placeholder="my telephone" required />
      <Line
        name="password"
        label="Your password, to begin"
        type="password"
        autoComplete="current-password"
        required
      />
      {asked && <Code autoFocus />}
      <Refused />
      <Send main={false} className="mt-1">
        Make a passkey
      </Send>
    </Form>
  );
}

function Remove({
  of,
  end,
  onClose,
  onRemoved,
}: {
  of: Passkey;
  end: Props["end"];
  onClose: () => void;
  onRemoved: () => unknown;
}) {
  const entry = useEntry({
    start: { password: "" },
    send: (typed) => end(of.id, typed),
    done: onRemoved,
  });
  return (
    <Dialog open onClose={onClose} title={`Remove ${of.label}`}>
      <p className="mb-3">
        It opens your account no more. What keeps it may still offer it: remove it there, too.
      </p>
      <Form of={entry}>
        <Line
          name="password"
          label="Password"
          type="password"
          autoComplete="current-password"
          required
          autoFocus
        />
        <Ends leave="Leave it as it is" onLeave={onClose}>
          <Send>Remove it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

/** Signing in by a passkey, where this browser has them for this page. */
export function SignInByPasskey({
  ask,
  enter,
  onEntered,
}: {
  ask: () => Promise<Json>;
  enter: (passkey: Json) => Promise<unknown>;
  onEntered: () => unknown;
}) {
  const entering = useMutation({
    mutationFn: async () => {
      const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON((await ask()) as never);
      await enter(await unlocked(navigator.credentials.get({ publicKey })));
    },
    onSuccess: onEntered,
  });
  if (why()) return null;
  return (
    <div className="mt-4">
      <Button onClick={() => entering.mutate()} disabled={entering.isPending}>
        Sign in by a passkey
      </Button>
      <Trouble error={entering.error} />
    </div>
  );
}
