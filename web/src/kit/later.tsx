import { type ComponentType, use, useEffect, useState } from "react";

/** A page whose program is loaded when somebody first goes there, or before that by `load`. */
export type Later = { load: () => Promise<void>; loaded: () => ComponentType | undefined };

export function later(program: () => Promise<ComponentType>): Later {
  let there: ComponentType | undefined;
  let coming: Promise<void> | undefined;
  const load = () => {
    coming ??= program().then((found) => {
      there = found;
    });
    return coming;
  };
  return { load, loaded: () => there };
}

/** The page; like React's `lazy`, which however shows that it waits even for a program that is there. */
export function Loaded({ page }: { page: Later }) {
  if (!page.loaded()) use(page.load());
  const Page = page.loaded();
  return Page && <Page />;
}

/** Whether the program of the page that is opened first is there. It comes beside the first answers so; waited for
 * where the page stands, it would be seen 300 ms late: React lets words that it waits stand that long. */
export function useFirst(page: Later | undefined): boolean {
  const [first] = useState(page);
  const [there, setThere] = useState(!first);
  useEffect(() => {
    // What did not arrive is told where the page would stand.
    const shown = () => setThere(true);
    first?.load().then(shown, shown);
  }, [first]);
  return there;
}
