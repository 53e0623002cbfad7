import { later } from "../../kit/later";
import type { Place } from "../place";

export const admit: Place = {
  path: "/admit",
  name: "Admit",
  pages: [
    { name: "The desk", to: "/admit/desk", count: (of) => of.waiting },
    { name: "Consumers", to: "/admit/consumers", count: (of) => of.consumers },
    { name: "Groups", to: "/admit/groups" },
    { name: "Portals", to: "/admit/portals" },
    { name: "Questions", to: "/admit/questions", count: (of) => of.questions },
  ],
  waits: (of) => of.waiting + of.questions,
  routes: later(() => import("./pages").then((of) => of.AdmitPages)),
};
