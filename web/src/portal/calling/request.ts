import type { Portal } from "../../api/portal";

type Operation = Portal["OperationView"];
type Parameter = Portal["Parameter"];

/** What is filled in of a call: its parameters by place and name, and a body of one media type. */
export type Values = { parameters: Record<string, string>; media: string; body: string };

/** What proves who calls, by name and value. */
export type Proof = { header: [string, string] };

/** A call as it is sent; `secret` is the header that proves who calls. */
export type Request = {
  method: string;
  url: string;
  headers: [string, string][];
  media: string;
  body: string | null;
  secret: string;
};

export const keyOf = (of: Parameter) => `${of.place} ${of.value.name}`;

/** What a call begins with: what its document gives as examples, where something has to be said. */
export function begun(one: Operation): Values {
  const said = one.described;
  const given = (said?.parameters ?? []).map((p) => [keyOf(p), p.value.required ? p.sample : ""]);
  const body = bodyOf(one);
  return {
    parameters: Object.fromEntries(given),
    media: body?.media_type ?? "",
    body: indented(body?.sample ?? ""),
  };
}

/** The body that is sent where several may be: JSON, if it is among them. */
function bodyOf(one: Operation): Portal["Body"] | undefined {
  const bodies = one.described?.bodies ?? [];
  return bodies.find((b) => isJson(b.media_type)) ?? bodies[0];
}

export const isJson = (media: string) => /^[^;]*[/+]json\b/i.test(media);
export const isForm = (media: string) => media === "application/x-www-form-urlencoded";

/** What has to be said and is not, by name. */
export function missing(one: Operation, values: Values): string[] {
  const said = one.described;
  const left = (said?.parameters ?? []).filter((p) => p.value.required && !values.parameters[keyOf(p)]);
  const names = left.map((p) => p.value.name);
  return said?.body_required && values.body.trim() === "" ? [...names, "the body"] : names;
}

/** The call that is filled in, to the gateway that people reach at an address. */
export function requestOf(one: Operation, values: Values, proof: Proof, gateway: string): Request {
  const query: [string, string][] = [];
  const headers: [string, string][] = Object.entries(one.headers);
  const cookies: string[] = [];
  let path = one.line.url_path;
  for (const parameter of one.described?.parameters ?? []) {
    const value = values.parameters[keyOf(parameter)] ?? "";
    const { name } = parameter.value;
    if (parameter.place === "path") path = path.replace(`{${name}}`, encoded(value || `{${name}}`));
    else if (value === "") continue;
    else if (parameter.place === "header") headers.push([name, value]);
    else if (parameter.place === "cookie") cookies.push(`${name}=${encoded(value)}`);
    else if (parameter.repeats)
      query.push(...value.split(",").map((v): [string, string] => [name, v.trim()]));
    else query.push([name, value]);
  }
  // A document may leave a parameter of the path out.
  path = path.replace(/\{([^}]*)\}/g, (_, name) => values.parameters[`path ${name}`] || encoded(`{${name}}`));
  if (cookies.length > 0) headers.push(["Cookie", cookies.join("; ")]);
  headers.push(proof.header);
  const text = values.body.trim() === "" ? null : values.body;
  const body = text !== null && isForm(values.media) ? fields(text) : text;
  if (body !== null) headers.push(["Content-Type", values.media]);
  const said = query.map(([name, value]) => `${encoded(name)}=${encoded(value)}`).join("&");
  const at = one.host ? gateway.replace(/\/\/[^/]*/, `//${one.host}`) : gateway;
  return {
    method: one.line.method,
    url: `${at}${path}${said && `?${said}`}`,
    headers,
    media: values.media,
    body,
    secret: proof.header[0],
  };
}

/** As it stands in an address, and in a text between any quotes. */
function encoded(text: string): string {
  return encodeURIComponent(text).replace(
    /[!'()*]/g,
    (c) => `%${c.charCodeAt(0).toString(16).toUpperCase()}`,
  );
}

/** A form's fields, from a JSON object of them; what is no such object goes as it stands. */
function fields(text: string): string {
  const given = parsed(text);
  if (given === null || typeof given !== "object") return text;
  const pairs = Object.entries(given).map(([name, value]) => [name, asText(value)]);
  return new URLSearchParams(pairs).toString();
}

export const asText = (value: unknown) => (typeof value === "string" ? value : JSON.stringify(value));

export function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}

/** JSON with its parts on lines of their own; anything else as it is. */
export function indented(text: string): string {
  const value = parsed(text);
  return value !== null && typeof value === "object" ? JSON.stringify(value, null, 2) : text;
}
