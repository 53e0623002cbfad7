import { useQuery } from "@tanstack/react-query";
import { Suspense } from "react";
import { Route, Routes, useLocation } from "react-router";
import type { Console } from "../api/console";
import { me as signedIn } from "../api/queries/house";
import { Boundary } from "../kit/boundary";
import { Trouble, Waiting } from "../kit/controls";
import { type Later, Loaded, useFirst } from "../kit/later";
import { Told } from "../kit/told";
import { Nowhere } from "./frame";
import { Join } from "./house/invite";
import { record } from "./house/place";
import { Entrance, NewAddress } from "./house/sign-in";
import { Stopped } from "./house/stopped";
import { Today } from "./observe/today";
import { ALL_PLACES } from "./places";
import { Shell } from "./shell";

export function App() {
  const { pathname } = useLocation();
  const me = useQuery(signedIn());
  const arrived = useFirst(routesAt(pathname));
  if (me.error)
    return (
      <div className="p-10">
        <Trouble error={me.error} />
      </div>
    );
  if (!me.data || !arrived)
    return (
      <div className="p-10">
        <Waiting words="Opening Calm Tariff" />
      </div>
    );
  return (
    <Told zone={me.data.time_zone} currency={me.data.currency}>
      <Whoever me={me.data} />
    </Told>
  );
}

function Whoever({ me }: { me: Console["Me"] }) {
  if (!me.name) return <Entrance me={me} />;
  return me.stopped ? <Stopped me={me} /> : <Inside me={me} />;
}

function routesAt(pathname: string): Later | undefined {
  return pathname === "/record" ? record : ALL_PLACES.find((p) => pathname.startsWith(p.path))?.routes;
}

/** What is there for who is signed in. */
function Inside({ me }: { me: Console["Me"] }) {
  const { pathname } = useLocation();
  return (
    <Shell me={me}>
      <Boundary at={pathname}>
        <Suspense fallback={<Opening />}>
          <Routes>
            <Route path="/" element={<Today />} />
            <Route path="/address" element={<NewAddress />} />
            <Route path="/join" element={<Join />} />
            <Route path="/record" element={<Loaded page={record} />} />
            {ALL_PLACES.map(({ path, routes }) => (
              <Route key={path} path={`${path}/*`} element={<Loaded page={routes} />} />
            ))}
            <Route path="*" element={<Nowhere />} />
          </Routes>
        </Suspense>
      </Boundary>
    </Shell>
  );
}

function Opening() {
  return (
    <main className="p-8">
      <Waiting words="Opening the page" />
    </main>
  );
}
