import type { Console } from "../../../api/console";
import { day, dayAndMinute, plural } from "../../../kit/format";

type Request = Console["RequestView"];

const HOUR = 3_600_000;

/** How long something has waited, in whole units of what matters. */
export function waited(since: string, now = Date.now()): string {
  const hours = Math.floor((now - new Date(since).getTime()) / HOUR);
  if (hours < 1) return "under an hour";
  return hours < 48 ? plural(hours, "hour") : plural(Math.floor(hours / 24), "day");
}

/** How long a request has waited, and against which target. */
export function Target({ of: r }: { of: Request }) {
  const late = r.due_at !== null && r.state !== "asked back" && new Date(r.due_at) <= new Date();
  return (
    <span title={`Asked ${dayAndMinute(r.created_at)}`}>
      {waited(r.created_at)}
      {r.due_at && (
        <span className={`block text-[12px] ${late ? "text-madder" : "text-soft"}`}>
          {late ? `was due on ${lastDay(r.due_at)}` : `due by ${lastDay(r.due_at)}`}
        </span>
      )}
    </span>
  );
}

/** The day that ends at an instant. */
export const lastDay = (end: string) => day(new Date(new Date(end).getTime() - 1));
