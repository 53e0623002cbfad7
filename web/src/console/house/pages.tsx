import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { OwnPassword } from "./password";
import { RecordPage } from "./record";
import { ServiceTokens } from "./tokens";

/** The office itself: one's password, tokens for scripts, and the record, which has an address of its own. */
export function HousePages() {
  return (
    <Routes>
      <Route index element={<RecordPage />} />
      <Route path="tokens" element={<ServiceTokens />} />
      <Route path="password" element={<OwnPassword />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
