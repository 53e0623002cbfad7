import { useEffect, useRef } from "react";

/** Whether a key press belongs to somebody typing. */
function typing(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    target.closest("input, textarea, select, [contenteditable], [role=dialog]") !== null
  );
}

/** Single keys for what a screen offers; not while somebody is typing, nor with Ctrl, Alt or Meta.
 * One that answers false leaves the key to the page. */
export function useKeys(keys: Record<string, (() => unknown) | undefined>) {
  // The newest handlers at once, not after the next paint: keys may come faster than that.
  const latest = useRef(keys);
  latest.current = keys;
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (typing(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      const act = latest.current[event.key === "Escape" ? "escape" : event.key];
      if (act && act() !== false) event.preventDefault();
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
}
