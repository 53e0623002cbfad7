import { later } from "../../kit/later";
import type { Place } from "../place";

export const compose: Place = {
  path: "/compose",
  name: "Compose",
  pages: [
    { name: "APIs", to: "/compose/apis", count: (of) => of.apis },
    { name: "Meters", to: "/compose/meters", count: (of) => of.meters },
    { name: "Products", to: "/compose/products", count: (of) => of.products },
    { name: "The bench", to: "/compose/bench" },
    { name: "Limits above plans", to: "/compose/limits" },
    { name: "Trusted issuers", to: "/compose/issuers" },
    { name: "As a document", to: "/compose/tariff" },
  ],
  routes: later(() => import("./pages").then((of) => of.ComposePages)),
};
