import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { Portal } from "../api/portal";
import { operations } from "../api/queries/portal";
import { useAddress } from "../kit/address";
import { Trouble, Waiting } from "../kit/controls";
import { plural } from "../kit/format";
import { OperationInFull } from "./operation";
import { TakeAlong } from "./take-along";

type Product = Portal["Storefront"];
type Line = Portal["OperationLine"];
/** So many rows more are drawn whenever their end comes into view. */
const STEP = 80;

/** Everything that a product sells, each to be opened; which one is open stands in the address. */
export function Operations({ product }: { product: Product }) {
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
        <span className="whitespace-nowrap">With the words</span>
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
          product={product}
          open={line.id === open}
          onOpen={(on) => change({ operation: on ? String(line.id) : null })}
        />
      ))}
      {most < shown.length && <More key={most} onSeen={() => setDrawn(most + STEP)} />}
      <p className="mt-3 text-[13px] text-soft">{plural(shown.length, "operation")}</p>
      <TakeAlong slug={product.slug} />
    </>
  );
}

type RowProps = {
  line: Line;
  heading: boolean;
  product: Product;
  open: boolean;
  onOpen: (on: boolean) => void;
};

function Row({ line, heading, product, open, onOpen }: RowProps) {
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
      {open && <OperationInFull product={product} id={line.id} />}
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
