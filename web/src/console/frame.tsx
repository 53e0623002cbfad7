import { useState } from "react";
import { useKeys } from "../kit/keys";

type Props = {
  title: React.ReactNode;
  sub?: React.ReactNode;
  margin?: React.ReactNode;
  children?: React.ReactNode;
};

/** The sheet in the middle and, where a screen has something to say, the margin on the right. */
export function Page({ title, sub, margin, children }: Props) {
  const [folded, setFolded] = useState(() => localStorage.getItem("margin") === "folded");
  const fold = () => {
    localStorage.setItem("margin", folded ? "open" : "folded");
    setFolded(!folded);
  };
  useKeys({ m: margin ? fold : undefined });
  return (
    <>
      <main
        className={`min-w-0 overflow-y-auto border-line bg-sheet px-6 pt-5 pb-10 ${margin ? "border-x" : "border-l"}`}
      >
        <h1>{title}</h1>
        {sub && <div className="mt-1 text-soft">{sub}</div>}
        {children}
      </main>
      {margin && (
        <aside
          aria-label="Margin"
          className={`overflow-y-auto pt-5 pr-5 pl-5 text-[13px] ${folded ? "w-9 px-1" : "w-[306px]"}`}
        >
          <div className="float-right">
            <button
              type="button"
              onClick={fold}
              className="text-soft hover:text-ink"
              aria-expanded={!folded}
              aria-label={folded ? "Unfold the margin" : "Fold the margin"}
              title="m"
            >
              {folded ? "«" : "»"}
            </button>
          </div>
          {!folded && margin}
        </aside>
      )}
    </>
  );
}

/** One thing the margin says. */
export function Aside({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <section className="mb-3.5 border-b border-line pb-3.5 last:border-0">
      <h2 className="mb-1.5">{title}</h2>
      {children}
    </section>
  );
}

/** A name and its figure, set apart. */
export function Pair({ name, children }: { name: React.ReactNode; children: React.ReactNode }) {
  return (
    <div className="flex justify-between gap-3 py-[3px]">
      <span>{name}</span>
      <span className="text-right">{children}</span>
    </div>
  );
}

/** What an address shows that leads to no page. */
export function Nowhere() {
  return (
    <Page title="Nothing is here" sub="The address leads to no page. The finder knows the way: press /." />
  );
}
