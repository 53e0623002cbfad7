import { createContext, useContext } from "react";
import type { Portal } from "../api/portal";

type Member = Portal["Member"];

/** Who is signed in: given once, by the portal's frame. */
export const Me = createContext<Member | null>(null);

/** Who is signed in, and the provider's look. */
export function useMe(): Member {
  const me = useContext(Me);
  if (!me) throw new Error("outside the portal");
  return me;
}
