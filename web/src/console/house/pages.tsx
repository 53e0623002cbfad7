import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { OwnPassword } from "./password";
import { ServiceTokens } from "./tokens";

/** The office itself: one's password, and tokens for scripts. */
export function HousePages() {
  return (
    <Routes>
      <Route path="tokens" element={<ServiceTokens />} />
      <Route path="password" element={<OwnPassword />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
