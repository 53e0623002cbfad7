import { later } from "../../kit/later";
import type { Place } from "../place";

export const settle: Place = {
  path: "/settle",
  name: "Settle",
  pages: [
    { name: "Periods", to: "/settle/periods", count: (of) => of.to_charge },
    { name: "Accounts", to: "/settle/accounts", count: (of) => of.unpaid },
    { name: "Payments", to: "/settle/payments", count: (of) => of.unmatched },
    { name: "Books", to: "/settle/books", count: (of) => of.differing },
    { name: "Handoff", to: "/settle/handoff", count: (of) => of.not_handed_on },
    { name: "Usage from elsewhere", to: "/settle/usage" },
    { name: "Struck out", to: "/settle/struck-out" },
  ],
  waits: (of) => of.to_charge + of.unpaid + of.unmatched + of.differing + of.not_handed_on,
  routes: later(() => import("./pages").then((of) => of.SettlePages)),
};
