import { useQuery } from "@tanstack/react-query";
import { Route, Routes } from "react-router";
import { api } from "../api/console";
import { Trouble, Waiting } from "../kit/controls";
import { speak } from "../kit/format";
import { Consumer, Consumers } from "./admit/consumers";
import { Desk } from "./admit/desk";
import { Groups } from "./admit/groups";
import { Api } from "./compose/api";
import { Apis, NewApi } from "./compose/apis";
import { Bench } from "./compose/bench";
import { DocumentPage, NewDocument } from "./compose/documents";
import { Issuers } from "./compose/issuers";
import { HouseLimits, PlanDocument, WhatACallerGets } from "./compose/limits";
import { MeterPage, Meters } from "./compose/meters";
import { NewProduct, Products } from "./compose/products";
import { RevisionPage } from "./compose/revision";
import { TariffSheet } from "./compose/sheet";
import { TariffDocument } from "./compose/tariff";
import { Page } from "./frame";
import { OwnPassword } from "./house/password";
import { ServiceTokens } from "./house/tokens";
import { Allowances } from "./observe/allowances";
import { Gateways } from "./observe/gateways";
import { Traffic } from "./observe/traffic";
import { RecordPage } from "./record";
import { InvoicePage } from "./settle/invoice";
import { PeriodPage, Periods } from "./settle/periods";
import { Shell } from "./shell";
import { Entrance } from "./sign-in";
import { Today } from "./today";

export function App() {
  const me = useQuery({
    queryKey: ["me"],
    queryFn: () => api.get("/me"),
    staleTime: Number.POSITIVE_INFINITY,
  });
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
      <Routes>
        <Route path="/" element={<Today />} />
        <Route path="/compose/apis" element={<Apis />} />
        <Route path="/compose/apis/new" element={<NewApi />} />
        <Route path="/compose/apis/:id" element={<Api />} />
        <Route path="/compose/meters" element={<Meters />} />
        <Route path="/compose/meters/:id" element={<MeterPage />} />
        <Route path="/compose/products" element={<Products />} />
        <Route path="/compose/products/new" element={<NewProduct />} />
        <Route path="/compose/products/:id" element={<TariffSheet />} />
        <Route path="/compose/revisions/:id" element={<RevisionPage />} />
        <Route path="/compose/documents/new" element={<NewDocument />} />
        <Route path="/compose/documents/:id" element={<DocumentPage />} />
        <Route path="/compose/limits" element={<HouseLimits />} />
        <Route path="/compose/plans/:id/limits" element={<WhatACallerGets />} />
        <Route path="/compose/plans/:id/document" element={<PlanDocument />} />
        <Route path="/compose/bench" element={<Bench />} />
        <Route path="/compose/issuers" element={<Issuers />} />
        <Route path="/compose/tariff" element={<TariffDocument />} />
        <Route path="/admit/desk" element={<Desk />} />
        <Route path="/admit/desk/:id" element={<Desk />} />
        <Route path="/admit/consumers" element={<Consumers />} />
        <Route path="/admit/consumers/:id" element={<Consumer />} />
        <Route path="/admit/groups" element={<Groups />} />
        <Route path="/observe/traffic" element={<Traffic />} />
        <Route path="/observe/allowances" element={<Allowances />} />
        <Route path="/observe/gateways" element={<Gateways />} />
        <Route path="/settle/periods" element={<Periods />} />
        <Route path="/settle/periods/:start" element={<PeriodPage />} />
        <Route path="/settle/invoices/:id" element={<InvoicePage />} />
        <Route path="/house/tokens" element={<ServiceTokens />} />
        <Route path="/house/password" element={<OwnPassword />} />
        <Route path="/record" element={<RecordPage />} />
        <Route
          path="*"
          element={
            <Page
              title="Nothing is here"
              sub="The address leads to no page. The finder knows the way: press /."
            />
          }
        />
      </Routes>
    </Shell>
  );
}
