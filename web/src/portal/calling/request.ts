import type { Portal } from "../../api/portal";
import type { Chosen, Part } from "./files";

type Operation = Portal["OperationView"];
type Parameter = Portal["Parameter"];

/** What is filled in of a call: its parameters by place and name, and a body of one media type, as a text or, by the
 * names of a form's parts ("" where the whole body is one), as files. */
export type Values = {
  parameters: Record<string, string>;
  media: string;
  body: string;
  files: Record<string, Chosen>;
};

/** What says who calls, by name and value, if anything does, and whether that is a secret. */
export type Proof = { header: [string, string] | null; secret: boolean };

/** A call as it is sent; `secret` is the header that proves who calls, if any does. */
export type Request = {
  method: string;
  url: string;
  headers: [string, string][];
  media: string;
  body: string | null;
  /** In place of a text: the parts of a form, or a file that is the whole body. */
  parts: Part[] | null;
  file: Chosen | null;
  secret: string;
  /** Whether the document says that it is answered with JSON. */
  answersJson: boolean;
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
    body: indented(withoutFiles(one, body)),
    files: {},
  };
}

/** What a body begins with, without what is chosen as a file. */
function withoutFiles(one: Operation, body: Portal["Body"] | undefined): string {
  const files = filesOf(one, body?.media_type ?? "");
  const given = parsed(body?.sample ?? "");
  if (files.length === 0) return body?.sample ?? "";
  if (given === null || typeof given !== "object") return "";
  return JSON.stringify(Object.fromEntries(Object.entries(given).filter(([name]) => !files.includes(name))));
}

/** The body that is sent where several may be: JSON, if it is among them. */
function bodyOf(one: Operation): Portal["Body"] | undefined {
  const bodies = one.described?.bodies ?? [];
  return bodies.find((b) => isJson(b.media_type)) ?? bodies[0];
}

export const isJson = (media: string) => /^[^;]*[/+]json\b/i.test(media);
export const isForm = (media: string) => media === "application/x-www-form-urlencoded";
export const isMultipart = (media: string) => /^multipart\/form-data\b/i.test(media);
/** Whether a body of a media type is a file rather than a text. */
export const isBytes = (media: string) =>
  /^(image|audio|video|font)\/(?!svg)|^application\/(octet-stream|pdf|zip|gzip|[^;]*protobuf)\b/i.test(media);

/** The parts of a form that are files, by name. */
export function filesOf(one: Operation, media: string): string[] {
  if (isBytes(media)) return [""];
  const body = isMultipart(media) ? one.described?.bodies.find((b) => b.media_type === media) : undefined;
  return (body?.schema?.parts ?? []).filter((p) => /\bbinary\b/.test(p.type)).map((p) => p.name);
}

/** What has to be said and is not, by name. */
export function missing(one: Operation, values: Values): string[] {
  const said = one.described;
  const left = (said?.parameters ?? []).filter((p) => p.value.required && !values.parameters[keyOf(p)]);
  const names = left.map((p) => p.value.name);
  const needed = said?.bodies.find((b) => b.media_type === values.media)?.schema?.parts ?? [];
  const files = filesOf(one, values.media);
  for (const { name, required } of needed)
    if (required && files.includes(name) && !values.files[name]) names.push(`the file ${name}`);
  const isThere = values.body.trim() !== "" || Object.keys(values.files).length > 0;
  return said?.body_required && !isThere ? [...names, "the body"] : names;
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
  if (proof.header) headers.push(proof.header);
  const text = values.body.trim() === "" ? null : values.body;
  const file = values.files[""] ?? null;
  const parts = isMultipart(values.media) ? partsOf(values) : null;
  const body = parts || file ? null : text !== null && isForm(values.media) ? fields(text) : text;
  if (body !== null || parts || file) headers.push(["Content-Type", values.media]);
  const said = query.map(([name, value]) => `${encoded(name)}=${encoded(value)}`).join("&");
  const at = one.host ? gateway.replace(/\/\/[^/]*/, `//${one.host}`) : gateway;
  return {
    method: one.line.method,
    url: `${at}${path}${said && `?${said}`}`,
    headers,
    media: values.media,
    body,
    parts,
    file,
    answersJson: (one.described?.answers ?? []).some(
      (answer) => answer.status.startsWith("2") && answer.bodies.some((b) => isJson(b.media_type)),
    ),
    secret: proof.secret && proof.header ? proof.header[0] : "",
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

/** A form's parts: the fields of a JSON object, and the files beside them; none where there is nothing. */
function partsOf(values: Values): Part[] | null {
  const given = parsed(values.body);
  const typed =
    given !== null && typeof given === "object" && !Array.isArray(given) ? Object.entries(given) : [];
  const parts: Part[] = typed
    .filter(([name]) => !values.files[name])
    .map(([name, value]) => ({ name, value: asText(value) }));
  for (const [name, chosen] of Object.entries(values.files)) parts.push({ name, value: chosen });
  return parts.length > 0 ? parts : null;
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
