import { useSearchParams } from "react-router";

/** What a page keeps in its address, and what changes some of it: null takes a name out. A change starts from the
 * address as it is by then, not as it was when the page was last drawn, so that of two at once none is lost. */
export function useAddress() {
  const [search, setSearch] = useSearchParams();
  const change = (part: Record<string, string | null>, { replace = true } = {}) => {
    const next = new URLSearchParams(window.location.search);
    for (const [name, value] of Object.entries(part)) {
      if (value === null) next.delete(name);
      else next.set(name, value);
    }
    setSearch(next, { replace });
  };
  return { search, change };
}
