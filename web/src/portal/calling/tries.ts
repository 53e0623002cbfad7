import { useState } from "react";
import { BEGINS } from "../../api/begins";
import { useMe } from "../me";

/** A call that was tried, without what proved who called; `before` it were so many of the same, to see a limit work. */
export type Try = {
  at: string;
  slug: string;
  operation: number;
  what: string;
  status: number;
  took: number;
  call: string;
  before: number;
};

const MOST = 50;

/** One's own tries in this browser, the last first. */
export function useTries(): { tries: Try[]; add: (one: Try) => void; forget: () => void } {
  const { consumer, name } = useMe();
  const place = `tries ${BEGINS} ${consumer} ${name}`;
  const [tries, setTries] = useState<Try[]>(() => read(place));
  return {
    tries,
    add: (one) => {
      const next = [one, ...read(place)].slice(0, MOST);
      localStorage.setItem(place, JSON.stringify(next));
      setTries(next);
    },
    forget: () => {
      localStorage.removeItem(place);
      setTries([]);
    },
  };
}

function read(place: string): Try[] {
  try {
    const kept = JSON.parse(localStorage.getItem(place) ?? "[]");
    return Array.isArray(kept) ? kept : [];
  } catch {
    return [];
  }
}
