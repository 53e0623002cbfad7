import { useQuery } from "@tanstack/react-query";
import { Suspense } from "react";
import { Route, Routes, useLocation } from "react-router";
import { me as signedIn } from "../api/queries/house";
import { Boundary } from "../kit/boundary";
import { Trouble, Waiting } from "../kit/controls";
import { speak } from "../kit/format";
import { Nowhere } from "./frame";
import { house } from "./house/place";
import { Entrance } from "./house/sign-in";
import { Today } from "./observe/today";
import { ALL_PLACES } from "./places";
import { Shell } from "./shell";

export function App() {
  const { pathname } = useLocation();
  const me = useQuery(signedIn());
  if (me.error)
    return (
      <div className="p-10">
        <Trouble error={me.error} />
      </div>
    );
  if (!me.data)
    return (
      <div className="p-10">
        <Waiting words="Opening Calm Tariff" />
      </div>
    );
  speak(me.data.time_zone, me.data.currency);
  if (!me.data.name) return <Entrance me={me.data} />;
  return (
    <Shell me={me.data}>
      <Boundary at={pathname}>
        <Suspense fallback={<Opening />}>
          <Routes>
            <Route path="/" element={<Today />} />
            <Route path="/record" element={<house.Pages />} />
            {ALL_PLACES.map(({ path, Pages }) => (
              <Route key={path} path={`${path}/*`} element={<Pages />} />
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
