/** Numbers, money and times through the platform's own formatting. Decimals arrive as text and stay exact. */

/** In what times, money and numbers are told: IANA time zone, ISO 4217 currency, BCP 47 language. */
export type Locale = { zone: string; currency: string; language: string };

let told: Locale = { zone: "UTC", currency: "EUR", language: "en-GB" };

/** Tell everything in this from now on; only `Told` says so, which has what is shown laid out anew. */
export function tellIn(locale: Locale): void {
  told = locale;
}

export const zoneName = () => told.zone;

const number = (options: Intl.NumberFormatOptions) => new Intl.NumberFormat(told.language, options);

/** A number with as many decimals as it has, or with so many, so that one stands under the other. */
export function count(value: string | number, places = 0): string {
  return number({ minimumFractionDigits: places, maximumFractionDigits: 6 }).format(value as number);
}

/** How many decimals the longest of some numbers has, up to six. */
export const decimals = (values: string[]) =>
  Math.max(0, ...values.map((value) => Math.min(6, (value.split(".")[1] ?? "").replace(/0+$/, "").length)));

export function amount(value: string | number, currency = told.currency): string {
  return number({ style: "currency", currency }).format(value as number);
}

/** Several, as a sentence names them: "a, b and c". */
export function listed(names: string[]): string {
  return new Intl.ListFormat(told.language).format(names);
}

/** An unrounded amount with all its digits. */
export function exact(value: string, currency = told.currency): string {
  const digits = Math.min(12, Math.max(2, (value.split(".")[1] ?? "").replace(/0+$/, "").length));
  return number({
    style: "currency",
    currency,
    minimumFractionDigits: digits,
    maximumFractionDigits: digits,
  }).format(value as unknown as number);
}

const format = (options: Intl.DateTimeFormatOptions) => (moment: string | Date) =>
  new Intl.DateTimeFormat(told.language, { timeZone: told.zone, ...options }).format(new Date(moment));

export const day = format({ day: "numeric", month: "long" });
export const dayAndYear = format({ day: "numeric", month: "long", year: "numeric" });
export const minute = format({ hour: "2-digit", minute: "2-digit" });
export const dayAndMinute = format({ day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });

/** Until when something holds that ends at an instant: a last day, or a time of day. */
export function untilWhen(end: string): string {
  const before = new Date(new Date(end).getTime() - 1);
  return minute(end) === "00:00" ? `the end of ${dayAndYear(before)}` : `${dayAndYear(end)}, ${minute(end)}`;
}

export function clock(moment: string): string {
  const shown = format({ hour: "2-digit", minute: "2-digit", second: "2-digit" })(moment);
  return `${shown}.${String(new Date(moment).getUTCMilliseconds()).padStart(3, "0")}`;
}

/** A calendar month, from its first day (a date, not an instant). */
export function month(first: string): string {
  return new Intl.DateTimeFormat(told.language, { month: "long", year: "numeric", timeZone: "UTC" }).format(
    new Date(first),
  );
}

export function date(value: string): string {
  return new Intl.DateTimeFormat(told.language, {
    weekday: "short",
    day: "numeric",
    month: "short",
    timeZone: "UTC",
  }).format(new Date(value));
}

/** Bytes, rounded to what matters: a megabyte is 10⁶ of them. */
export function bytes(value: number): string {
  if (value < 1000) return plural(value, "byte");
  const [size, name] = value < 1e6 ? [1e3, "kB"] : value < 1e9 ? [1e6, "MB"] : [1e9, "GB"];
  const rounded = value / size;
  return `${count(rounded < 10 ? Math.round(rounded * 10) / 10 : Math.round(rounded))}\u00a0${name}`;
}

/** The calendar day it is now where times are told, as YYYY-MM-DD. */
export function today(): string {
  return new Intl.DateTimeFormat("sv-SE", { timeZone: told.zone }).format(new Date());
}

export function milliseconds(microseconds: number): string {
  const ms = microseconds / 1000;
  return `${ms < 10 ? ms.toFixed(1) : count(Math.round(ms))} ms`;
}

/** An account number or a reference, in groups of four. */
export const inFours = (text: string) => text.replace(/(.{4})(?=.)/g, "$1 ");

export const plural = (n: number, one: string, many = `${one}s`) => `${count(n)} ${n === 1 ? one : many}`;
