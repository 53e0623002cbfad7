import { useEffect, useState } from "react";
import { useLocation } from "react-router";

/** A thing that was opened, and where it is. */
type Opened = { name: string; to: string };

function read(): Opened[] {
  try {
    return JSON.parse(localStorage.getItem("lately") ?? "[]");
  } catch {
    return [];
  }
}

/** Remember a thing somebody has opened, for the index. */
export function useOpened(name: string | undefined) {
  const { pathname } = useLocation();
  useEffect(() => {
    if (!name) return;
    const rest = read().filter((one) => one.to !== pathname);
    localStorage.setItem("lately", JSON.stringify([{ name, to: pathname }, ...rest].slice(0, 5)));
    window.dispatchEvent(new Event("lately"));
  }, [name, pathname]);
}

/** What was opened lately, apart from what stands at a path. */
export function useLately(path: string): Opened[] {
  const [lately, setLately] = useState(read);
  useEffect(() => {
    const listen = () => setLately(read());
    window.addEventListener("lately", listen);
    return () => window.removeEventListener("lately", listen);
  }, []);
  return lately.filter((one) => one.to !== path).slice(0, 4);
}
