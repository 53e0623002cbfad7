import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { ServiceTokens } from "./tokens";
import { You } from "./you";

/** The office itself: one's sign-in, and tokens for scripts. */
export function HousePages() {
  return (
    <Routes>
      <Route path="tokens" element={<ServiceTokens />} />
      <Route path="you" element={<You />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
