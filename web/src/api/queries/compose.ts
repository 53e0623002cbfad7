import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, type Console, type paths } from "../console";
import { asking, type List, type Read } from "./asking";

const ask = asking<paths>(api);

export const allApis = () => ask("/apis", { params: { query: { rows: 1000 } } });
export const apiVersion = (id: number) => ask("/apis/{version_id}", { params: { path: { version_id: id } } });
export const callers = (version: number) =>
  ask("/apis/{version_id}/callers", { params: { path: { version_id: version } } });
type OperationFilter = paths["/apis/{version_id}/operations"]["get"]["parameters"]["query"];
export const operations = (version: number, query: OperationFilter) =>
  ask(
    "/apis/{version_id}/operations",
    { params: { path: { version_id: version }, query } },
    { placeholderData: keepPreviousData },
  );

export const documentRead = (id: number) =>
  ask(
    "/documents/{reading_id}",
    { params: { path: { reading_id: id } } },
    { refetchInterval: (query) => (query.state.data?.stage === "reading" ? 400 : false) },
  );
export const documentAgainst = (reading: number, version: number) =>
  ask("/documents/{reading_id}/against/{version_id}", {
    params: { path: { reading_id: reading, version_id: version } },
  });

export const productsToChoose = () => ask("/products", { params: { query: { rows: 1000 } } });

export const metersToChoose = () => ask("/meters", { params: { query: { rows: 1000 } } });

export const releaseNotes = (version: number) =>
  ask("/apis/{version_id}/release-notes", { params: { path: { version_id: version } } });
export const issuers = () => ask("/issuers");
export const houseLimits = () => ask("/limits");

export const meter = (id: number) => ask("/meters/{meter_id}", { params: { path: { meter_id: id } } });
export const dependents = (id: number) =>
  ask("/meters/{meter_id}/dependents", { params: { path: { meter_id: id } } });
export const meterPreview = (filter: Console["PreviewIn"]) =>
  queryOptions({
    queryKey: ["/meters/preview", filter],
    queryFn: () => api.post("/meters/preview", { body: filter }),
    placeholderData: keepPreviousData,
  });

const product = (id: number) => ({ path: { product_id: id } });
export const sheet = (id: number) =>
  ask("/products/{product_id}/sheet", { params: product(id) }, { refetchInterval: 5_000 });
export const consequences = (id: number) =>
  ask("/products/{product_id}/consequences", { params: product(id) }, { placeholderData: keepPreviousData });
export const estimate = (id: number, meterKey: string, units: number) =>
  ask(
    "/products/{product_id}/estimate",
    { params: { ...product(id), query: { meter: meterKey, units } } },
    { placeholderData: keepPreviousData },
  );
export const effective = (plan: number, draft = false) =>
  ask("/plans/{plan_id}/effective", { params: { path: { plan_id: plan }, query: { draft } } });
export const revision = (id: number) =>
  ask("/revisions/{revision_id}", { params: { path: { revision_id: id } } });

export const markdown = (text: string) =>
  queryOptions({
    queryKey: ["/markdown", text],
    queryFn: () => api.post("/markdown", { body: { text } }),
    placeholderData: keepPreviousData,
  });

const OF_SHEETS: Read<paths>[] = ["/products/{product_id}/sheet", "/products/{product_id}/consequences"];

/** What each change to what is sold makes stale. */
export const STALE = {
  api: ["/apis", "/apis/{version_id}", "/apis/{version_id}/operations", "/limits", "/counts"],
  apiShown: ["/apis"],
  operations: ["/apis/{version_id}", "/apis/{version_id}/operations"],
  document: [
    "/apis",
    "/apis/{version_id}",
    "/apis/{version_id}/operations",
    "/plans/{plan_id}/effective",
    "/limits",
    "/counts",
    ...OF_SHEETS,
  ],
  issuer: ["/issuers"],
  releaseNote: ["/apis/{version_id}/release-notes"],
  houseLimit: ["/limits", "/plans/{plan_id}/effective"],
  meter: ["/meters", "/meters/{meter_id}", "/apis/{version_id}/operations", "/counts", ...OF_SHEETS],
  product: ["/products", "/counts", ...OF_SHEETS],
  terms: ["/products/{product_id}/consequences", "/products/{product_id}/estimate"],
  tariff: [
    "/products",
    "/meters",
    "/meters/{meter_id}",
    "/limits",
    "/plans/{plan_id}/effective",
    "/counts",
    "/today",
    ...OF_SHEETS,
  ],
} satisfies Record<string, (Read<paths> | List<paths>)[]>;
