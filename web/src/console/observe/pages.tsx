import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { Gateways } from "../serve/gateways";
import { Allowances } from "./allowances";
import { Traffic } from "./traffic";

/** What happens: calls, allowances, and the processes that decide. */
export function ObservePages() {
  return (
    <Routes>
      <Route path="traffic" element={<Traffic />} />
      <Route path="allowances" element={<Allowances />} />
      <Route path="gateways" element={<Gateways />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
