import { later } from "../../kit/later";
import type { Place } from "../place";

export const observe: Place = {
  path: "/observe",
  name: "Observe",
  pages: [
    { name: "Traffic", to: "/observe/traffic" },
    { name: "Allowances", to: "/observe/allowances", count: (of) => of.near_the_end },
    { name: "Gateways", to: "/observe/gateways" },
  ],
  routes: later(() => import("./pages").then((of) => of.ObservePages)),
};
