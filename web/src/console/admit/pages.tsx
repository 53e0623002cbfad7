import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { Consumer, Consumers } from "./consumers";
import { Desk } from "./desk/desk";
import { Reasons } from "./desk/reasons";
import { RequestPage } from "./desk/request";
import { Groups } from "./groups";
import { HistoryPage } from "./history";
import { ImportPage } from "./import";
import { Imports } from "./imports";
import { PortalPage } from "./portal";
import { Portals } from "./portals";
import { QuestionPage } from "./question";
import { Questions } from "./questions";

/** Who may call: the desk, the consumers and their groups, the portals, and what is asked there. */
export function AdmitPages() {
  return (
    <Routes>
      <Route path="desk" element={<Desk />} />
      <Route path="desk/reasons" element={<Reasons />} />
      <Route path="desk/:id" element={<RequestPage />} />
      <Route path="consumers" element={<Consumers />} />
      <Route path="consumers/:id" element={<Consumer />} />
      <Route path="subscriptions/:id" element={<HistoryPage />} />
      <Route path="imports" element={<Imports />} />
      <Route path="imports/:id" element={<ImportPage />} />
      <Route path="groups" element={<Groups />} />
      <Route path="portals" element={<Portals />} />
      <Route path="portals/:id" element={<PortalPage />} />
      <Route path="questions" element={<Questions />} />
      <Route path="questions/:id" element={<QuestionPage />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
