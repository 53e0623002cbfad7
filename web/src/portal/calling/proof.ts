import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Portal } from "../../api/portal";
import { useStale } from "../../api/queries/asking";
import { applications, STALE } from "../../api/queries/portal";
import { beginning } from "../beginning";
import { useMe } from "../me";
import type { Proof } from "./request";
import { basic, token } from "./sending";

type Operation = Portal["OperationView"];
type Application = Portal["ApplicationView"];

/** How a call proves who makes it: by what it shows, and whether that is made on the spot for an hour. */
export type Way = { shows: "key" | "basic" | "client" | "token" | "sandbox" | "nothing"; hour: boolean };

/** What a way is called in a sentence. */
export const WORDS: Record<string, string> = {
  "key hour": "a key for an hour, of the sandbox",
  key: "a key that I have",
  "basic hour": "a secret for an hour, by HTTP Basic",
  basic: "a secret that I have, by HTTP Basic",
  "client hour": "a token, for a secret made for an hour",
  client: "a token, for a secret that I have",
  token: "a token of an issuer that is trusted here",
  sandbox: "no credential, in the sandbox",
  nothing: "no credential",
};
export const wayName = (way: Way) => `${way.shows}${way.hour ? " hour" : ""}`;

// What was made on the spot stays with this page alone, until it is left.
const made = new Map<string, { secret: string; at: number; until: number }>();
const tokens = new Map<string, { text: string; until: number }>();

/** Who calls, and how that is proved. */
export function useProof(one: Operation, product: string) {
  const me = useMe();
  const stale = useStale();
  const own = useQuery({ ...applications(), enabled: me.name !== "" });
  const [application, setApplication] = useState<number | null>(null);
  const [chosen, setChosen] = useState("");
  const [typed, setTyped] = useState("");
  const [shownToken, setShownToken] = useState("");
  const holds = (a: Application) => a.plans.some((p) => p.product === product && p.subscription_id !== null);
  const app = own.data?.find((a) => a.id === application) ?? own.data?.find(holds) ?? own.data?.[0];
  const shown: Way[] = (one.kinds as Way["shows"][])
    .filter((kind) => kind in WORDS)
    .flatMap((shows) => [
      ...(app && me.may.includes("run applications") && one.sandbox && shows !== "token"
        ? [{ shows, hour: true }]
        : []),
      { shows, hour: false },
    ]);
  const without: Way[] = [
    ...(one.tried_by_anyone ? [{ shows: "sandbox" as const, hour: false }] : []),
    ...(one.open_under ? [{ shows: "nothing" as const, hour: false }] : []),
  ];
  // Who has no account here begins with what needs none.
  const ways = me.name ? [...shown, ...without] : [...without, ...shown];
  const way = ways.find((w) => wayName(w) === chosen) ?? ways[0] ?? { shows: "key", hour: false };

  /** The secret that goes with a way; made now where it is one for an hour and none is good. */
  const secretOf = async (of: Way): Promise<string> => {
    if (!of.hour || !app) return typed.trim();
    const kind = kindOf(of);
    const known = made.get(`${app.id} ${kind}`);
    if (known && known.until > Date.now()) return known.secret;
    const answer = await api.post("/applications/{application_id}/passing-keys", {
      params: { path: { application_id: app.id } },
      body: { kind },
    });
    // A minute before its end it is as good as over.
    const until = new Date(answer.key.expires_at ?? 0).getTime() - 60_000;
    made.set(`${app.id} ${kind}`, { secret: answer.secret, at: Date.now(), until });
    await stale(STALE.key);
    return answer.secret;
  };

  const tokenOf = async (secret: string, client: string): Promise<string> => {
    const known = tokens.get(`${client} ${secret}`);
    if (known && known.until > Date.now()) return known.text;
    const { text, seconds } = await token(client, secret);
    tokens.set(`${client} ${secret}`, { text, until: Date.now() + (seconds - 30) * 1000 });
    return text;
  };

  return {
    /** Whether one's applications are still to come: what is chosen from them would move under the hand. */
    coming: own.isLoading,
    app,
    apps: own.data ?? [],
    /** Whether it has a plan of the product. */
    held: app !== undefined && holds(app),
    choose: setApplication,
    ways,
    way,
    setWay: setChosen,
    typed,
    setTyped,
    shownToken,
    /** When what calls was made here; long ago where it was not. */
    madeAt: () => (way.hour && app ? (made.get(`${app.id} ${kindOf(way)}`)?.at ?? 0) : 0),
    /** What is still to be typed before a call can be sent. */
    wanting:
      way.hour || isWithout(way) || typed.trim() !== ""
        ? ""
        : way.shows === "key"
          ? "the key"
          : secretWords(way),
    /** As it stands in a program: only what was made for an hour is written out. */
    written: proofOf(one, way, app?.client_id ?? "YOUR-CLIENT-ID", placeholder(way, app, typed)),
    /** As it is sent; made first where it is to be. */
    ready: async (): Promise<Proof> => {
      const secret = await secretOf(way);
      const client = app?.client_id ?? "";
      if (way.shows !== "client") return proofOf(one, way, client, secret);
      const text = await tokenOf(secret, client);
      setShownToken(text);
      return proofOf(one, way, client, text);
    },
  };
}

/** Whether a way shows no credential. */
export const isWithout = ({ shows }: Way) => shows === "sandbox" || shows === "nothing";

export type ProofChosen = ReturnType<typeof useProof>;

const kindOf = (way: Way) => (way.shows === "key" ? "key" : "secret");
const secretWords = (way: Way) => (way.shows === "token" ? "the token" : "the secret");

/** What shows who calls, or asks for the sandbox without it: a key where the product takes it, Basic (RFC 7617) or a bearer token (RFC 6750). */
function proofOf(one: Operation, { shows }: Way, client: string, secret: string): Proof {
  if (shows === "nothing") return { header: null, secret: false };
  if (shows === "sandbox") return { header: ["Calm-Environment", "sandbox"], secret: false };
  const value = shows === "basic" ? basic(client, secret) : `Bearer ${secret}`;
  return { header: shows === "key" ? [one.key_header, secret] : ["Authorization", value], secret: true };
}

/** What stands for a secret in a program: one for an hour itself, and of another no more than shows which it is. */
function placeholder(way: Way, app: Application | undefined, typed: string): string {
  if (isWithout(way)) return "";
  if (way.shows === "client" || way.shows === "token") return "YOUR-TOKEN";
  const kind = kindOf(way);
  const known = way.hour && app ? made.get(`${app.id} ${kind}`) : undefined;
  if (known && known.until > Date.now()) return known.secret;
  const good = app?.keys.find((k) => k.kind === kind && k.state === "active");
  const begins = typed ? beginning(typed) : good?.prefix;
  return begins ? `${begins}...` : kind === "key" ? "YOUR-KEY" : "YOUR-SECRET";
}
