import type { ComponentType } from "react";
import type { Console } from "../api/console";

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
  Pages: ComponentType;
};
