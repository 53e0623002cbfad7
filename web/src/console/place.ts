import type { Console } from "../api/console";
import type { Later } from "../kit/later";

export type Counts = Console["Counts"];

/** A page in the index, with what stands beside its name. */
export type PageLink = { name: string; to: string; count?: (of: Counts) => number };

/** A place of the console: its pages in their order, how many things wait there, and its routes, which are loaded when
 * somebody first goes there. */
export type Place = {
  path: string;
  name: string;
  pages: PageLink[];
  waits?: (of: Counts) => number;
  routes: Later;
};
