import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { People } from "./people";
import { SettingsPage } from "./settings";
import { ServiceTokens } from "./tokens";
import { You } from "./you";

/** The office itself: who works in it and how, one's sign-in, and tokens for scripts. */
export function HousePages() {
  return (
    <Routes>
      <Route path="people" element={<People />} />
      <Route path="settings" element={<SettingsPage />} />
      <Route path="tokens" element={<ServiceTokens />} />
      <Route path="you" element={<You />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
