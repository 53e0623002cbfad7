/** Changing terms by path: `limits.0.calls`, `pricing.prices.-` (append), null takes away. */
type Json = null | boolean | number | string | Json[] | { [key: string]: Json };
type Fields = { [key: string]: Json };

export type Slot = { path: string; match?: { [key: string]: unknown } | null };

export function withChange(terms: unknown, path: string, value: unknown): Record<string, unknown> {
  const copy = structuredClone(terms) as Json;
  const keys = path.split(".");
  const last = keys.pop() ?? "";
  const place = within(copy, keys);
  if (Array.isArray(place)) {
    if (last === "-") place.push(value as Json);
    else if (value === null) place.splice(Number(last), 1);
    else place[Number(last)] = value as Json;
  } else place[last] = value as Json;
  return copy as Record<string, unknown>;
}

/** A value of the terms by path. */
export function valueAt(terms: unknown, path: string): unknown {
  return path
    .split(".")
    .reduce<unknown>((place, key) => (place as Record<string, unknown> | undefined)?.[key], terms);
}

/** The terms `to` with one row's terms as `from` has them. */
export function withCopy(from: unknown, to: unknown, slot: Slot): Record<string, unknown> {
  const value = structuredClone(valueAt(from, slot.path)) as Json;
  if (!slot.match) return withChange(to, slot.path, value);
  const mine = (value as Fields[]).filter((item) => like(item, slot.match));
  const theirs = structuredClone(valueAt(to, slot.path)) as Fields[];
  const first = theirs.findIndex((item) => like(item, slot.match));
  const others = theirs.filter((item) => !like(item, slot.match));
  const taken = new Set([...others, ...((valueAt(to, "overrides") ?? []) as Fields[])].map((o) => o.name));
  for (const item of mine) {
    if (typeof item.name !== "string") continue;
    while (taken.has(item.name)) item.name = `${item.name} 2`;
    taken.add(item.name);
  }
  const at = first < 0 ? others.length : Math.min(first, others.length);
  return withChange(to, slot.path, [...others.slice(0, at), ...mine, ...others.slice(at)]);
}

function like(item: Fields, match: Slot["match"]): boolean {
  return Object.entries(match ?? {}).every(([name, value]) => item[name] === value);
}

function within(terms: Json, keys: string[]): Fields | Json[] {
  let place = terms as Fields | Json[];
  for (const key of keys) place = (place as Fields)[key] as Fields;
  return place;
}

/** What somebody typed, as the terms hold it: whole numbers as numbers, decimals as text, thousands marks gone. */
export function typed(value: string, input: string): string | number | boolean {
  const bare = value.replace(/[,\s€£$%]/g, "");
  if (input === "whole" && /^-?\d+$/.test(bare)) return Number(bare);
  if (input === "decimal") return bare;
  if (input === "text" || input === "pick") return value;
  if (input === "header" || input === "claim") return `${input}:${value.trim()}`;
  if (value === "true" || value === "false") return value === "true";
  return /^\d+$/.test(value) ? Number(value) : value;
}
