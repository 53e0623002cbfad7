import { Route, Routes } from "react-router";
import { Nowhere } from "../frame";
import { Bench } from "../serve/bench";
import { Api } from "./api";
import { Apis, NewApi } from "./apis";
import { DocumentPage, NewDocument } from "./documents";
import { Issuers } from "./issuers";
import { HouseLimits, PlanDocument, WhatACallerGets } from "./limits";
import { MeterPage, Meters } from "./meters";
import { NewProduct, Products } from "./products";
import { RevisionPage } from "./revision";
import { TariffSheet } from "./sheet";
import { TariffDocument } from "./tariff";

/** Where APIs, meters, products and their plans are made. */
export function ComposePages() {
  return (
    <Routes>
      <Route path="apis" element={<Apis />} />
      <Route path="apis/new" element={<NewApi />} />
      <Route path="apis/:id" element={<Api />} />
      <Route path="meters" element={<Meters />} />
      <Route path="meters/:id" element={<MeterPage />} />
      <Route path="products" element={<Products />} />
      <Route path="products/new" element={<NewProduct />} />
      <Route path="products/:id" element={<TariffSheet />} />
      <Route path="revisions/:id" element={<RevisionPage />} />
      <Route path="documents/new" element={<NewDocument />} />
      <Route path="documents/:id" element={<DocumentPage />} />
      <Route path="limits" element={<HouseLimits />} />
      <Route path="plans/:id/limits" element={<WhatACallerGets />} />
      <Route path="plans/:id/document" element={<PlanDocument />} />
      <Route path="bench" element={<Bench />} />
      <Route path="issuers" element={<Issuers />} />
      <Route path="tariff" element={<TariffDocument />} />
      <Route path="*" element={<Nowhere />} />
    </Routes>
  );
}
