import { isMultipart, type Request } from "./request";

/** An answer, as a page can show it. `took` is in milliseconds, to its head. */
export type Answer = {
  status: number;
  headers: Headers;
  body: Blob;
  took: number;
  call: string;
};

/** What a page may not set itself; a browser would leave it out without a word. */
const NOT_SET = ["cookie", "host"];

/** Whether a page leaves a field out, or to the browser, which says itself what stands between a form's parts. */
const left = (request: Request, name: string) =>
  NOT_SET.includes(name.toLowerCase()) ||
  (request.parts !== null && isMultipart(request.media) && name === "Content-Type");

function formOf(parts: NonNullable<Request["parts"]>): FormData {
  const form = new FormData();
  for (const { name, value } of parts)
    if (typeof value === "string") form.append(name, value);
    else form.append(name, value.file);
  return form;
}

/** What of a call is not sent from a page, by name. */
export const unsent = (request: Request) =>
  request.headers.map(([name]) => name).filter((name) => NOT_SET.includes(name.toLowerCase()));

/** Send a call from this page to the gateway itself. Throws where no answer comes that a page may read. */
export async function send(request: Request, signal?: AbortSignal): Promise<Answer> {
  const begun = performance.now();
  const answer = await fetch(request.url, {
    method: request.method,
    headers: request.headers.filter(([name]) => !left(request, name)),
    body: request.parts ? formOf(request.parts) : (request.file?.file ?? request.body),
    cache: "no-store",
    credentials: "omit",
    redirect: "manual",
    referrerPolicy: "no-referrer",
    signal,
  });
  const took = performance.now() - begun;
  return {
    status: answer.status,
    headers: answer.headers,
    body: await answer.blob(),
    took,
    call: answer.headers.get("call-id") ?? "",
  };
}

/** How long a key that was just made may be unknown to the gateway, in milliseconds. */
const ON_ITS_WAY = 10_000;

/** Send a call; where the gateway does not know its key yet, which was made a moment ago, again until it does. */
export async function sendKnown(
  request: Request,
  madeAt: () => number,
  signal: AbortSignal,
): Promise<Answer> {
  for (;;) {
    const answer = await send(request, signal);
    const isNew = Date.now() - madeAt() < ON_ITS_WAY;
    if (answer.status !== 401 || !isNew || !UNKNOWN.includes((await refusal(answer)).code ?? ""))
      return answer;
    await new Promise((again) => setTimeout(again, 250));
  }
}

/** What the gateway says of a key, or of a token for a secret, that it does not know yet. */
const UNKNOWN = ["credential-unknown", "token-revoked", "token-signature"];

/** Why a call was refused, where the answer says so (RFC 9457). */
export async function reason(answer: Answer): Promise<string> {
  const said = await refusal(answer);
  return said.detail ?? said.title ?? "";
}

async function refusal(answer: Answer): Promise<{ code?: string; title?: string; detail?: string }> {
  try {
    return JSON.parse(await answer.body.text()) ?? {};
  } catch {
    return {};
  }
}

/** A token for a client's id and secret, from the token endpoint (RFC 6749, 4.4). Throws what it answers. */
export async function token(client: string, secret: string): Promise<{ text: string; seconds: number }> {
  const answer = await fetch("/oauth2/token", {
    method: "POST",
    headers: { Authorization: basic(client, secret) },
    body: new URLSearchParams({ grant_type: "client_credentials" }),
    credentials: "omit",
  });
  const said = await answer.json();
  if (!answer.ok) throw new Error(said.error_description ?? said.error ?? "no token was given");
  return { text: said.access_token, seconds: said.expires_in };
}

/** HTTP Basic (RFC 7617), in UTF-8. */
export function basic(name: string, secret: string): string {
  const bytes = new TextEncoder().encode(`${name}:${secret}`);
  return `Basic ${btoa(String.fromCharCode(...bytes))}`;
}
