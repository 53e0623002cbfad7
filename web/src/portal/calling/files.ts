/** A file that was chosen; its text where it is one that a program can hold. */
export type Chosen = { file: File; text: string | null };

/** A part of a form that may have files among its fields (RFC 7578). */
export type Part = { name: string; value: string | Chosen };

/** What stands between the parts of a form in a text; a browser makes up its own. */
export const BOUNDARY = "calm-part-7d8e3a";

/** A form's parts as a text (RFC 7578). What is no text stands there by its name. */
export function partsAsText(parts: Part[]): string {
  const said = parts.map(({ name, value }) => {
    const isText = typeof value === "string";
    const head = isText
      ? `Content-Disposition: form-data; name="${quoted(name)}"`
      : `Content-Disposition: form-data; name="${quoted(name)}"; filename="${quoted(value.file.name)}"\r\nContent-Type: ${typeOf(value)}`;
    return `--${BOUNDARY}\r\n${head}\r\n\r\n${isText ? value : inPlace(value)}\r\n`;
  });
  return `${said.join("")}--${BOUNDARY}--\r\n`;
}

export const typeOf = ({ file }: Chosen) => file.type || "application/octet-stream";
/** A file's text, or words in its place. */
export const inPlace = ({ file, text }: Chosen) => text ?? `(the ${file.size} bytes of ${file.name})`;
const quoted = (text: string) =>
  text.replace(/[\r\n"]/g, (c) => `%${c.charCodeAt(0).toString(16).padStart(2, "0").toUpperCase()}`);

/** So long a file can stand in a program. */
const MOST_IN_PLACE = 4000;

/** A file that somebody has chosen, read where it may stand in a program. */
export async function chosen(file: File): Promise<Chosen> {
  if (file.size > MOST_IN_PLACE) return { file, text: null };
  try {
    const text = new TextDecoder("utf-8", { fatal: true }).decode(await file.arrayBuffer());
    return { file, text: text.includes("\0") ? null : text };
  } catch {
    return { file, text: null };
  }
}
