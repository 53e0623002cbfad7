import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { EndpointPage } from "./endpoint";
import { Endpoints } from "./endpoints";
import { Letters } from "./letters";
import { NoticePage } from "./notice";
import { Notices } from "./notices";
import { OwnNoticesPage } from "./own-notices";
import { People } from "./people";
import { SettingsPage } from "./settings";
import { ServiceTokens } from "./tokens";
import { You } from "./you";

/** The office itself: who works in it and how, one's sign-in, what is written to whom, tokens for scripts and
 * who hears what happens. */
export function HousePages() {
  return (
    <Routes>
      <Route path="people" element={<People />} />
      <Route path="settings" element={<SettingsPage />} />
      <Route path="hooks" element={<Endpoints />} />
      <Route path="hooks/:id" element={<EndpointPage />} />
      <Route path="notices" element={<Notices />} />
      <Route path="notices/:name" element={<NoticePage />} />
      <Route path="letters" element={<Letters />} />
      <Route path="tokens" element={<ServiceTokens />} />
      <Route path="told" element={<OwnNoticesPage />} />
      <Route path="you" element={<You />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
