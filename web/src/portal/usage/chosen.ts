import { BEGINS } from "../../api/begins";
import type { CallFilter, UseFilter } from "../../api/queries/portal";
import { useAddress } from "../../kit/address";
import { today } from "../../kit/format";

/** Names in the address that say which calls are meant; each is null where a choice is taken back. */
const NARROWING = ["application", "operation", "key", "status"] as const;
export type Narrowing = (typeof NARROWING)[number];
export const STRETCHES = {
  "this month": () => [first(today()), today()],
  "last month": () => lastMonth(),
  "the last 7 days": () => [before(today(), 6), today()],
  "the last 30 days": () => [before(today(), 29), today()],
  "the last 90 days": () => [before(today(), 89), today()],
} as const satisfies Record<string, () => readonly [string, string]>;

/** Which calls the page is about, as its address keeps it. */
export function useChosen() {
  const { search, change } = useAddress();
  const number = (name: string) => (search.get(name) ? Number(search.get(name)) : undefined);
  const environment = (search.get("environment") as UseFilter["environment"]) ?? undefined;
  const narrowed = Object.fromEntries(NARROWING.map((name) => [name, number(name)])) as Record<
    Narrowing,
    number | undefined
  >;
  const use: UseFilter = {
    ...narrowed,
    environment,
    since: search.get("since") ?? undefined,
    until: search.get("until") ?? undefined,
  };
  /** The same calls in the log; a day or what refused them narrows them further. */
  const calls: CallFilter = {
    ...narrowed,
    environment,
    verdict: (search.get("verdict") as CallFilter["verdict"]) ?? undefined,
    refused_by: search.get("refused_by") ?? undefined,
    subscription: number("subscription"),
    meter: number("meter"),
    since_us: number("since_us"),
    until_us: number("until_us"),
  };
  return { use, calls, call: search.get("call"), change };
}

/** What figures of one day, or of what refused calls, ask for beside the rest. */
export const NOTHING_FURTHER = {
  verdict: null,
  refused_by: null,
  since_us: null,
  until_us: null,
  subscription: null,
  meter: null,
  call: null,
};

/** Where a list is as a file, narrowed as it is shown. */
export function fileOf(name: string, narrowed: UseFilter | Record<string, unknown>): string {
  const known = Object.entries(narrowed).filter(([, value]) => value !== undefined && value !== null);
  return `${BEGINS}/api/v1/${name}?${new URLSearchParams(known.map(([n, v]) => [n, String(v)]))}`;
}

const first = (day: string) => `${day.slice(0, 8)}01`;

function before(day: string, days: number): string {
  const moved = new Date(`${day}T00:00:00Z`);
  moved.setUTCDate(moved.getUTCDate() - days);
  return moved.toISOString().slice(0, 10);
}

function lastMonth(): [string, string] {
  const end = before(first(today()), 1);
  return [first(end), end];
}
