import { later } from "../../kit/later";
import type { Place } from "../place";

/** Behind the person's name, and not among the places of the course bar. */
export const house: Place = {
  path: "/house",
  name: "House",
  pages: [
    { name: "Your sign-in", to: "/house/you" },
    { name: "Service tokens", to: "/house/tokens" },
  ],
  routes: later(() => import("./pages").then((of) => of.HousePages)),
};

/** The record, which has an address of its own. */
export const record = later(() => import("./record").then((of) => of.RecordPage));
