import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import type { Console } from "../../api/console";
import { markdown } from "../../api/queries/compose";
import { WordButton } from "../../kit/controls";
import { DRAFT } from "../../portal-draft";
import type { Typed } from "./portal-typed";

type View = Console["PortalView"];
const WIDE = 1280;
const NARROW = 375;

/** The portal itself, as it is for visitors, wearing what is being typed beside it. */
export function Preview({ view, typed }: { view: View; typed: Typed }) {
  const frame = useRef<HTMLIFrameElement>(null);
  const place = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(WIDE);
  const [room, setRoom] = useState(600);
  const welcome = useQuery(markdown(typed.welcome));
  const tell = useCallback(() => {
    const { name, main_colour, accent_colour, title_font, text_font } = typed;
    const pages = typed.pages.map(({ prefix, title }) => ({ prefix, title }));
    const look = { name, main_colour, accent_colour, title_font, text_font, pages };
    const whole = /^#[0-9a-f]{6}$/i.test(main_colour) && /^#[0-9a-f]{6}$/i.test(accent_colour);
    const said = welcome.data === undefined ? look : { ...look, welcome_html: welcome.data };
    if (whole) frame.current?.contentWindow?.postMessage({ is: DRAFT, look: said }, window.location.origin);
  }, [typed, welcome.data]);
  useEffect(() => {
    tell();
    // The portal asks once it is there.
    const asked = ({ data, source }: MessageEvent) => {
      if (source === frame.current?.contentWindow && data?.is === DRAFT) tell();
    };
    window.addEventListener("message", asked);
    return () => window.removeEventListener("message", asked);
  }, [tell]);
  useEffect(() => {
    const seen = new ResizeObserver(([entry]) => entry && setRoom(entry.contentRect.width));
    if (place.current) seen.observe(place.current);
    return () => seen.disconnect();
  }, []);
  const scale = Math.min(1, room / width);
  const height = 620;
  return (
    <section aria-label="The portal" className="sticky top-0 min-w-0 self-start">
      <div className="mb-2 flex items-baseline gap-4 border-b border-line pb-1 text-[13px]">
        <h2>The portal</h2>
        <span className="flex-1 text-soft">with what is typed here; offer and door once they are kept</span>
        <WordButton aria-pressed={width === WIDE} onClick={() => setWidth(WIDE)}>
          wide
        </WordButton>
        <WordButton aria-pressed={width === NARROW} onClick={() => setWidth(NARROW)}>
          narrow
        </WordButton>
      </div>
      <div ref={place} className="overflow-hidden border border-line" style={{ height }}>
        <iframe
          key={`${view.edition} ${view.logo?.digest} ${view.icon?.digest}`}
          ref={frame}
          title={`The portal ${view.brand.name}`}
          src={`${view.path}/`}
          className="origin-top-left bg-white"
          style={{ width, height: height / scale, transform: `scale(${scale})` }}
        />
      </div>
    </section>
  );
}
