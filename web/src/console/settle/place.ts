import { lazy } from "react";
import type { Place } from "../place";

export const settle: Place = {
  path: "/settle",
  name: "Settle",
  pages: [{ name: "Periods", to: "/settle/periods", count: (of) => of.to_charge }],
  waits: (of) => of.to_charge,
  Pages: lazy(() => import("./pages")),
};
