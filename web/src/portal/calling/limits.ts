import { type BareItem, parseList, type Parameters as Told } from "structured-headers";

/** What a limit has left, as an answer tells: how much of what, the span it is for and when there is more, in
 * seconds where they are told. */
export type Left = { name: string; allowed: number; left: number; window?: number; more?: number };

/** The limits that an answer's fields speak of (`RateLimit-Policy` and `RateLimit`, structured fields: RFC 9651);
 * none where they do not. */
export function limitsOf(headers: Headers): Left[] {
  const policies = items(headers.get("ratelimit-policy"));
  const left = new Map(items(headers.get("ratelimit")));
  return policies.flatMap(([name, policy]) => {
    const now = left.get(name);
    const allowed = number(policy, "q");
    const rest = now && number(now, "r");
    if (allowed === undefined || now === undefined || rest === undefined) return [];
    return [{ name, allowed, left: rest, window: number(policy, "w"), more: number(now, "t") }];
  });
}

function items(field: string | null): [string, Told][] {
  if (!field) return [];
  try {
    return parseList(field).map(([name, told]): [string, Told] => [String(name as BareItem), told]);
  } catch {
    return [];
  }
}

function number(told: Told, name: string): number | undefined {
  const value = told.get(name);
  return typeof value === "number" ? value : undefined;
}

/** Seconds in the largest unit that they fill: "20 s", "5 minutes", "3 hours", "12 days". */
export function span(seconds: number): string {
  if (seconds < 120) return `${seconds} s`;
  if (seconds < 7200) return `${Math.ceil(seconds / 60)} minutes`;
  return seconds < 172_800 ? `${Math.ceil(seconds / 3600)} hours` : `${Math.ceil(seconds / 86_400)} days`;
}

const MEANT: Record<string, string> = {
  "call-id": "the call's name in your log and on its receipt",
  "content-length": "the size of the body in bytes",
  "content-type": "what the body is",
  deprecation: "since when this version should not be begun with any more",
  "ratelimit-policy": "each limit: q is what it lets through, w the seconds that is for",
  ratelimit: "each limit: r is what it still lets through, t the seconds until there is more",
  "retry-after": "the seconds after which it is worth trying again",
  sunset: "when this version stops answering",
  "www-authenticate": "how a caller proves who calls",
  "x-ratelimit-limit": "of the limit with the least left: what it lets through",
  "x-ratelimit-remaining": "of the limit with the least left: what it still lets through",
  "x-ratelimit-reset": "of the limit with the least left: the seconds until there is more",
};

/** What a field of an answer means, where this portal can say. */
export const meaning = (name: string) => MEANT[name.toLowerCase()];
