/** The figures of a limit, with their labels; a limit has those that its kind has. */
export const LIMIT_FIELDS: readonly (readonly [string, string])[] = [
  ["calls", "Calls"],
  ["per_seconds", "in so many seconds"],
  ["burst", "at once"],
  ["max_wait_ms", "waiting up to, ms"],
  ["units", "Units"],
];
