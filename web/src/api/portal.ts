import createClient from "openapi-fetch";
import { BEGINS } from "./begins";
import { settled } from "./problem";
import type { components, paths } from "./schema.portal";

const client = createClient<paths>({ baseUrl: `${BEGINS}/api/v1` });

export type { paths };
export type Portal = components["schemas"];
export const api = settled(client);
