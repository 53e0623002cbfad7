import { useQuery, useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useEffect, useState } from "react";
import { Link, NavLink, useLocation, useNavigate } from "react-router";
import { api, type Console } from "../api/console";
import { left } from "../api/queries/asking";
import { counts as ofCounts } from "../api/queries/observe";
import { Dialog, Kbd } from "../kit/controls";
import { useKeys } from "../kit/keys";
import { Table } from "../kit/table";
import { house } from "./house/place";
import { useLately } from "./lately";
import { Finder } from "./observe/finder";
import type { Counts, Place } from "./place";
import { ALL_PLACES, firstPage, PLACES } from "./places";

type Me = Console["Me"];

export function Shell({ me, children }: { me: Me; children: React.ReactNode }) {
  const location = useLocation();
  const navigate = useNavigate();
  const [finding, setFinding] = useState(false);
  const [help, setHelp] = useState(false);
  const counts = useQuery(ofCounts());
  const place =
    ALL_PLACES.find((p) => location.pathname.startsWith(p.path)) ??
    (location.pathname === "/record" ? house : undefined);
  useKeys({
    "/": () => setFinding(true),
    "?": () => setHelp(true),
    ...Object.fromEntries(PLACES.map((p, n) => [`${n + 1}`, () => navigate(firstPage(p))])),
    escape: () => navigate(-1),
  });
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key === "k") {
        event.preventDefault();
        setFinding(true);
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  return (
    <div className="grid h-full grid-rows-[50px_1fr]">
      <header className="flex items-center gap-7 border-b border-line px-[22px]">
        <Link to="/" className="flex items-center gap-2 font-serif text-[19px] font-medium">
          <Mark />
          Calm Tariff
        </Link>
        <nav aria-label="Places" className="ml-4 flex gap-6 self-stretch">
          {PLACES.map((p, n) => (
            <NavLink
              key={p.path}
              to={firstPage(p)}
              title={`key ${n + 1}`}
              className={`flex items-center border-b-2 ${place === p ? "border-kelp text-ink" : "border-transparent text-soft hover:text-ink"}`}
            >
              {p.name}
              <Waits n={counts.data && p.waits?.(counts.data)} />
            </NavLink>
          ))}
        </nav>
        <button
          type="button"
          onClick={() => setFinding(true)}
          className="ml-auto flex w-[230px] items-center justify-between border-b border-line px-0.5 py-1 text-[13px] text-soft hover:border-soft"
        >
          Find anything <Kbd>/</Kbd>
        </button>
        <span>
          <PersonMenu me={me} onHelp={() => setHelp(true)} />
          <Waits n={counts.data?.unread} what="unread" />
        </span>
      </header>
      <div className="grid min-h-0 grid-cols-[178px_minmax(0,1fr)_auto]">
        <Index place={place} counts={counts.data} />
        {children}
      </div>
      {finding && <Finder onClose={() => setFinding(false)} />}
      <Dialog open={help} onClose={() => setHelp(false)} title="Keys">
        <KeyList />
      </Dialog>
    </div>
  );
}

function Beside({ n }: { n?: number }) {
  if (!n) return null;
  return (
    <>
      <span className="mx-1.5 flex-1 border-b border-dotted border-line" />
      {n}
    </>
  );
}

function Waits({ n, what = "waiting" }: { n?: number; what?: string }) {
  if (!n) return null;
  return (
    <sup className="ml-0.5 text-[11px] font-semibold text-madder">
      {n}
      <span className="sr-only"> {what}</span>
    </sup>
  );
}

function Mark() {
  return (
    <svg width="22" height="20" viewBox="0 0 22 20" aria-hidden="true">
      <path d="M1 3v14M6 8v9M11 5v12M16 10v7M21 3v14" stroke="var(--color-ink)" strokeWidth="1.4" />
      <path
        d="M1 11c3.3 0 3.3-4 6.6-4s3.3 6 6.7 6S17.7 9 21 9"
        fill="none"
        stroke="var(--color-kelp)"
        strokeWidth="2"
      />
    </svg>
  );
}

function Index({ place, counts }: { place?: Place; counts?: Counts }) {
  const location = useLocation();
  const lately = useLately(location.pathname);
  const shown = place ? [place] : PLACES;
  return (
    <nav aria-label="Contents" className="overflow-y-auto py-5 pr-0 pl-[22px]">
      {shown.map((p) => (
        <div key={p.path} className="mb-5">
          <h2 className="mb-1.5 font-sans text-[12px] font-semibold text-soft">{p.name}</h2>
          {p.pages.map((page) => (
            <NavLink
              key={page.to}
              to={page.to}
              className={({ isActive }) =>
                `flex items-baseline py-1 pr-3.5 ${isActive ? "font-semibold text-ink" : "text-soft hover:text-ink"}`
              }
            >
              {page.name}
              <Beside n={counts && page.count?.(counts)} />
            </NavLink>
          ))}
        </div>
      ))}
      {place !== house && (
        <div className="mb-5">
          <Link to="/record" className="block py-1 text-soft hover:text-ink">
            The record
          </Link>
        </div>
      )}
      {lately.length > 0 && (
        <div>
          <h2 className="mb-1.5 font-sans text-[12px] font-semibold text-soft">Lately</h2>
          {lately.map((one) => (
            <Link key={one.to} to={one.to} className="block truncate py-1 pr-3.5 text-soft hover:text-ink">
              {one.name}
            </Link>
          ))}
        </div>
      )}
    </nav>
  );
}

function PersonMenu({ me, onHelp }: { me: Me; onHelp: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const leave = async () => {
    await api.delete("/session");
    navigate("/");
    await left(queries);
  };
  const item = "block w-full cursor-pointer px-3 py-1.5 text-left outline-none data-highlighted:bg-kelp-tint";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="text-[13px] text-soft hover:text-ink">
        {me.name}, {me.roles.join(" and ")}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={8}
          className="rounded border border-line bg-sheet py-1 text-[13px] shadow-lg"
        >
          {house.pages.map((page) => (
            <DropdownMenu.Item key={page.to} className={item} onSelect={() => navigate(page.to)}>
              {page.name}
            </DropdownMenu.Item>
          ))}
          <DropdownMenu.Separator className="my-1 border-t border-line-soft" />
          <DropdownMenu.Item className={item} onSelect={onHelp}>
            Keys
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={leave}>
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

const KEYS: [string, string][] = [
  ["1 – 4", "Compose, Admit, Observe, Settle"],
  ["/ or Ctrl-K", "find anything"],
  ["j, k", "move through rows"],
  ["Enter", "open"],
  ["Esc", "back"],
  ["m", "fold or unfold the margin"],
  ["x", "choose a row, where several can be"],
  ["g, d, a", "on a request: grant, decline, ask back"],
  ["u", "on the desk: undo the latest decision"],
  ["Ctrl-Z, Ctrl-Y", "on a tariff sheet: undo, redo"],
  ["?", "this list"],
];

function KeyList() {
  return (
    <Table
      rows={KEYS}
      id={([key]) => key}
      columns={[{ cell: ([key]) => <Kbd>{key}</Kbd>, look: "w-36" }, { cell: ([, words]) => words }]}
    />
  );
}
