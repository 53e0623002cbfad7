import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { Portal } from "../api/portal";
import { operations } from "../api/queries/portal";
import { useAddress } from "../kit/address";
import { Trouble, Waiting } from "../kit/controls";
import { plural } from "../kit/format";
import { OperationInFull } from "./operation";

type Product = Portal["Storefront"];
type Line = Portal["OperationLine"];
/** So many rows more are drawn whenever their end comes into view. */
const STEP = 80;

/** Everything that a product sells, each to be opened; which one is open stands in the address. */
export function Operations({ product, gateway }: { product: Product; gateway: string }) {
  const list = useQuery(operations(product.slug));
  const { search, change } = useAddress();
  const [words, setWords] = useState("");
  const [drawn, setDrawn] = useState(STEP);
  const open = Number(search.get("operation"));
  const all = list.data ?? [];
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const shown = all.filter((line) => {
    const said = `${line.method} ${line.url_path} ${line.summary} ${line.groups.join(" ")}`.toLowerCase();
    return wanted.every((word) => said.includes(word));
  });
  // One that an address leads to is drawn wherever it stands.
  const most = Math.max(drawn, shown.findIndex((line) => line.id === open) + 1);
  if (list.error) return <Trouble error={list.error} />;
  if (list.isPending) return <Waiting words="Fetching the operations" />;
  return (
    <>
      <label className="mb-4 flex max-w-96 items-baseline gap-2 text-[13px] text-soft">
        With the words
        <input
          className="w-full border-b border-(--portal-line) bg-transparent pb-0.5 text-[14px] text-ink"
          value={words}
          onChange={(e) => {
            setWords(e.target.value);
            setDrawn(STEP);
          }}
        />
      </label>
      {shown.length === 0 && <p className="text-soft">No operation here has these words.</p>}
      {shown.slice(0, most).map((line, place) => (
        <Row
          key={line.id}
          line={line}
          heading={line.version !== shown[place - 1]?.version}
          slug={product.slug}
          open={line.id === open}
          onOpen={(on) => change({ operation: on ? String(line.id) : null })}
        />
      ))}
      {most < shown.length && <More key={most} onSeen={() => setDrawn(most + STEP)} />}
      <p className="mt-3 text-[13px] text-soft">{plural(shown.length, "operation")}</p>
      <FirstCall product={product} gateway={gateway} />
    </>
  );
}

type RowProps = {
  line: Line;
  heading: boolean;
  slug: string;
  open: boolean;
  onOpen: (on: boolean) => void;
};

function Row({ line, heading, slug, open, onOpen }: RowProps) {
  const here = useRef<HTMLElement>(null);
  // Whoever comes by an address sees what it leads to.
  const [ledHere] = useState(open);
  useEffect(() => {
    if (ledHere) here.current?.scrollIntoView({ block: "start" });
  }, [ledHere]);
  return (
    <section ref={here} aria-label={`${line.method} ${line.url_path}`}>
      {heading && <h2 className="mt-5 mb-1 text-[20px]">{line.version}</h2>}
      <button
        type="button"
        aria-expanded={open}
        onClick={() => onOpen(!open)}
        className="flex w-full flex-wrap items-baseline gap-x-4 border-t border-(--portal-line-soft) py-2 text-left hover:bg-(--portal-tint)"
      >
        <code className="font-mono text-[13px] break-all">
          {line.method} {line.url_path}
        </code>
        <span className="text-(--portal-soft)">{line.summary}</span>
        {line.deprecated && <span className="text-[13px] text-brass">deprecated</span>}
      </button>
      {open && <OperationInFull slug={slug} id={line.id} />}
    </section>
  );
}

/** The end of what is drawn, which asks for more when it is seen. */
function More({ onSeen }: { onSeen: () => void }) {
  const end = useRef<HTMLDivElement>(null);
  const seen = useRef(onSeen);
  seen.current = onSeen;
  useEffect(() => {
    const watch = new IntersectionObserver(([entry]) => entry?.isIntersecting && seen.current(), {
      rootMargin: "600px",
    });
    if (end.current) watch.observe(end.current);
    return () => watch.disconnect();
  }, []);
  return <div ref={end} className="h-px" />;
}

function FirstCall({ product, gateway }: { product: Product; gateway: string }) {
  const first = product.operations.findLast((o) => o.method === "GET") ?? product.operations.at(-1);
  if (!first) return null;
  return (
    <>
      <h2 className="mt-6 mb-1.5">A first call</h2>
      <pre className="overflow-x-auto bg-(--portal-tint) p-3 font-mono text-[13px]">
        {firstCall(product.key_header, gateway, first)}
      </pre>
    </>
  );
}

/** A call as it is typed, with a body where its method sends one. */
function firstCall(header: string, gateway: string, of: Product["operations"][number]): string {
  const method = of.method === "GET" ? "" : of.method === "HEAD" ? " --head" : ` -X ${of.method}`;
  const body = ["POST", "PUT", "PATCH"].includes(of.method)
    ? ` -H "Content-Type: application/json" -d '{}'`
    : "";
  const path = of.url_path.replace(/\{[^}]*\}/g, "lm-01");
  return `curl${method} -H "${header}: YOUR_KEY"${body} ${gateway}${path}`;
}
