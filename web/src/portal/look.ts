import { useEffect, useLayoutEffect, useState } from "react";
import { BEGINS } from "../api/begins";
import type { Portal } from "../api/portal";
import { DRAFT } from "../portal-draft";

type Look = Portal["Look"];

/** The address of a picture. */
export const picture = (digest: string) => `${BEGINS}/api/v1/pictures/${digest}.png`;

/** The portal's look, put on for the whole document: a dialog stands beside the page, not inside it. Shown within the
 * console, it is what is being typed there. */
export function useLook(kept: Look | undefined): Look | undefined {
  const [draft, setDraft] = useState<Partial<Look>>({});
  useEffect(() => {
    if (window.parent === window) return;
    const take = ({ origin, data }: MessageEvent) => {
      if (origin === window.location.origin && data?.is === DRAFT) setDraft(data.look);
    };
    window.addEventListener("message", take);
    window.parent.postMessage({ is: DRAFT }, window.location.origin);
    return () => window.removeEventListener("message", take);
  }, []);
  const look = kept && { ...kept, ...draft };
  const { main_colour: main, accent_colour: accent, title_font: titles, text_font: texts } = look ?? {};
  useLayoutEffect(() => {
    if (!main || !accent) return;
    const root = document.documentElement.style;
    root.setProperty("--portal-main", main);
    root.setProperty("--portal-accent", accent);
    root.setProperty("--color-kelp", main);
    root.setProperty("--font-serif", `"${titles} Variable", "${titles}", serif`);
    root.setProperty("--font-sans", `"${texts} Variable", "${texts}", sans-serif`);
  }, [main, accent, titles, texts]);
  return look;
}
