import { useQuery } from "@tanstack/react-query";
import { Dialog as RadixDialog } from "radix-ui";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { found as foundWith } from "../../api/queries/observe";

const PAGES = [
  ["Today", "/"],
  ["APIs", "/compose/apis"],
  ["Meters", "/compose/meters"],
  ["Products", "/compose/products"],
  ["Limits above the plans", "/compose/limits"],
  ["The bench", "/compose/bench"],
  ["Trusted issuers", "/compose/issuers"],
  ["The tariff as a document", "/compose/tariff"],
  ["The desk", "/admit/desk"],
  ["Groups", "/admit/groups"],
  ["Consumers", "/admit/consumers"],
  ["Traffic", "/observe/traffic"],
  ["Allowances", "/observe/allowances"],
  ["Gateways", "/observe/gateways"],
  ["Periods", "/settle/periods"],
  ["The record", "/record"],
  ["Service tokens", "/house/tokens"],
  ["Your sign-in", "/house/you"],
  ["Bring in an OpenAPI document", "/compose/documents/new"],
  ["Type an API by hand", "/compose/apis/new"],
  ["Make a new meter", "/compose/meters/new"],
  ["Make a new product", "/compose/products/new"],
] as const;

/** Consumers, applications, key prefixes, plans, invoices, call ids, pages and actions by a few letters. */
export function Finder({ onClose }: { onClose: () => void }) {
  const [words, setWords] = useState("");
  const [place, setPlace] = useState(0);
  const navigate = useNavigate();
  const found = useQuery(foundWith(words));
  const pages = PAGES.filter(([name]) => name.toLowerCase().includes(words.trim().toLowerCase())).map(
    ([name, link]) => ({ kind: name.includes("new") ? "action" : "page", name, link: link as string }),
  );
  const all = words.trim() ? [...(found.data ?? []), ...pages] : pages;
  const at = Math.min(place, all.length - 1);
  const open = (link?: string) => {
    if (!link) return;
    onClose();
    navigate(link);
  };
  // While what is found for fewer letters still stands there, Enter waits for what these letters find.
  const current = !words.trim() || !(found.isPending || found.isPlaceholderData);
  const [entered, setEntered] = useState(false);
  const chosen = all[at]?.link;
  // biome-ignore lint/correctness/useExhaustiveDependencies: opened once, when what was entered has been found
  useEffect(() => {
    if (!entered || !current) return;
    setEntered(false);
    open(chosen);
  }, [entered, current, chosen]);
  return (
    <RadixDialog.Root open onOpenChange={(next) => !next && onClose()}>
      <RadixDialog.Portal>
        <RadixDialog.Overlay className="fixed inset-0 bg-black/20" />
        <RadixDialog.Content
          aria-describedby={undefined}
          className="fixed top-[9vh] left-1/2 w-[min(620px,92vw)] -translate-x-1/2 rounded-md border border-line bg-sheet shadow-xl"
        >
          <RadixDialog.Title className="sr-only">Find anything</RadixDialog.Title>
          <input
            aria-label="Find anything"
            role="combobox"
            aria-expanded
            aria-controls="found"
            aria-activedescendant={all.length ? `found-${at}` : undefined}
            className="w-full border-b border-line bg-transparent px-5 py-3.5 font-serif text-[19px] outline-none"
            placeholder="A consumer, an application, a plan, an invoice, a call id …"
            value={words}
            onChange={(e) => {
              setWords(e.target.value);
              setPlace(0);
              setEntered(false);
            }}
            onKeyDown={(e) => {
              if (e.key === "ArrowDown") setPlace(Math.min(all.length - 1, at + 1));
              if (e.key === "ArrowUp") setPlace(Math.max(0, at - 1));
              if (e.key === "Enter") setEntered(true);
            }}
          />
          <div id="found" role="listbox" aria-label="Found" className="max-h-[50vh] overflow-y-auto py-1.5">
            {all.map((one, n) => (
              <div
                key={one.kind + one.link + one.name}
                id={`found-${n}`}
                role="option"
                tabIndex={-1}
                aria-selected={n === at}
                onMouseDown={() => open(one.link)}
                className={`flex cursor-pointer justify-between px-5 py-1.5 ${n === at ? "bg-kelp-tint" : ""}`}
              >
                <span>{one.name}</span>
                <span className="text-soft">{one.kind}</span>
              </div>
            ))}
            {all.length === 0 && (
              <p className="px-5 py-3 text-soft">
                Nothing is called that. Try fewer letters, or part of a key.
              </p>
            )}
          </div>
        </RadixDialog.Content>
      </RadixDialog.Portal>
    </RadixDialog.Root>
  );
}
