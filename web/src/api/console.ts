import createClient from "openapi-fetch";
import { settled } from "./problem";
import type { components, paths } from "./schema.console";

const client = createClient<paths>({ baseUrl: "/api/v1" });

export type { paths };
export type Console = components["schemas"];
export const api = settled(client);
