import { later } from "../../kit/later";
import type { Place } from "../place";

/** Behind the person's name, and not among the places of the course bar. */
export const house: Place = {
  path: "/house",
  name: "House",
  pages: [
    { name: "People", to: "/house/people" },
    { name: "Settings", to: "/house/settings" },
    { name: "Notices", to: "/house/notices" },
    { name: "Mail log", to: "/house/letters" },
    { name: "Service tokens", to: "/house/tokens" },
    { name: "Hooks", to: "/house/hooks" },
    { name: "The record", to: "/record" },
    { name: "Your notices", to: "/house/told", count: (of) => of.unread },
    { name: "Your sign-in", to: "/house/you" },
  ],
  routes: later(() => import("./pages").then((of) => of.HousePages)),
};

/** The record, which has an address of its own. */
export const record = later(() => import("./record").then((of) => of.RecordPage));
