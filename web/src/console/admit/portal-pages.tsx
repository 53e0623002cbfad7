import { useState } from "react";
import { Button, Field, Refusal, WordButton } from "../../kit/controls";
import { useField } from "../../kit/form";
import type { Typed } from "./portal-typed";

type One = Typed["pages"][number];

/** A portal's further pages: each has a title in the head of the portal, an address, and text in Markdown. */
export function FurtherPages() {
  const { value: pages, onChange, error } = useField<One[]>("pages");
  const [open, setOpen] = useState<number | null>(null);
  const change = (at: number, part: Partial<One>) =>
    onChange(pages.map((page, place) => (place === at ? { ...page, ...part } : page)));
  const move = (at: number, to: number) => {
    const moved = [...pages];
    moved.splice(to, 0, ...moved.splice(at, 1));
    onChange(moved);
    setOpen(null);
  };
  return (
    <>
      {pages.length === 0 && (
        <p className="mb-2 text-soft">None. A page can say how to begin, for instance.</p>
      )}
      {pages.map((page, at) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a page is its place in the list
        <div key={at} className="border-b border-line-soft py-1.5">
          <div className="flex items-baseline gap-3">
            <button
              type="button"
              className="flex-1 text-left font-semibold"
              aria-expanded={open === at}
              onClick={() => setOpen(open === at ? null : at)}
            >
              {page.title || "a page without title"}
            </button>
            {at > 0 && (
              <WordButton aria-label={`up, ${page.title}`} onClick={() => move(at, at - 1)}>
                up
              </WordButton>
            )}
            <WordButton
              aria-label={`take away ${page.title}`}
              onClick={() => {
                onChange(pages.filter((_, place) => place !== at));
                setOpen(null);
              }}
            >
              take away
            </WordButton>
          </div>
          {open === at && (
            <div className="pt-2">
              <Field label="Title" value={page.title} onChange={(title) => change(at, { title })} />
              <Field
                label="Its address ends in"
                value={page.prefix}
                onChange={(prefix) => change(at, { prefix })}
              />
              <Field
                label="Text"
                area
                hint="Markdown"
                value={page.text}
                onChange={(text) => change(at, { text })}
              />
            </div>
          )}
        </div>
      ))}
      {error && <Refusal>{error}</Refusal>}
      <Button
        small
        className="mt-2"
        onClick={() => {
          onChange([...pages, { prefix: "", title: "", text: "" }]);
          setOpen(pages.length);
        }}
      >
        Add a page
      </Button>
    </>
  );
}
