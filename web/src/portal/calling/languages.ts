import { httpclient } from "httpsnippet/dist/targets/csharp/httpclient/client";
import { native as go } from "httpsnippet/dist/targets/go/native/client";
import { nethttp } from "httpsnippet/dist/targets/java/nethttp/client";
import { fetch } from "httpsnippet/dist/targets/javascript/fetch/client";
import { okhttp } from "httpsnippet/dist/targets/kotlin/okhttp/client";
import { curl as php } from "httpsnippet/dist/targets/php/curl/client";
import { webrequest } from "httpsnippet/dist/targets/powershell/webrequest/client";
import { python3 } from "httpsnippet/dist/targets/python/python3/client";
import { native as ruby } from "httpsnippet/dist/targets/ruby/native/client";
import { reqwest } from "httpsnippet/dist/targets/rust/reqwest/client";
import { curl } from "httpsnippet/dist/targets/shell/curl/client";
import { nsurlsession } from "httpsnippet/dist/targets/swift/nsurlsession/client";
import type { Client } from "httpsnippet/dist/targets/targets";
import { BOUNDARY, inPlace, partsAsText, typeOf } from "./files";
import type { Language } from "./language-names";
import { isJson, parsed, type Request } from "./request";

/** What writes a call in each language. */
const LANGUAGES = {
  Shell: curl,
  Python: python3,
  JavaScript: fetch,
  Go: go,
  Java: nethttp,
  Kotlin: okhttp,
  "C#": httpclient,
  PHP: php,
  PowerShell: webrequest,
  Ruby: ruby,
  Rust: reqwest,
  Swift: nsurlsession,
} satisfies Record<Language, Client>;

/** A call as a program in a language. */
export function written(request: Request, language: Language): string {
  const url = new URL(request.url);
  const query = Object.fromEntries([...url.searchParams.keys()].map((k) => [k, url.searchParams.getAll(k)]));
  // A shell takes files by their names; elsewhere what is sent stands in the program as it is.
  const byName = language === "Shell" && (request.parts !== null || request.file !== null);
  const sent = request.headers.flatMap(([name, value]): [string, string][] => {
    if (!request.parts || name !== "Content-Type") return [[name, value]];
    return byName ? [] : [[name, `${value}; boundary=${BOUNDARY}`]];
  });
  const headers = Object.fromEntries(sent);
  const json = isJson(request.media) ? parsed(request.body ?? "") : null;
  const path = `${url.pathname}${url.search}`;
  // What the package's own preparation comes to, which needs more than a browser has.
  const prepared = {
    method: request.method,
    // One name may have several values, which not every language can say apart from its address.
    url: request.url,
    fullUrl: request.url,
    httpVersion: "HTTP/1.1",
    headersSize: 0,
    bodySize: 0,
    queryString: [],
    headers: sent.map(([name, value]) => ({ name, value })),
    cookies: [],
    cookiesObj: {},
    queryObj: {},
    headersObj: headers,
    allHeaders: headers,
    uriObj: {
      protocol: url.protocol,
      host: url.host,
      hostname: url.hostname,
      port: url.port,
      pathname: url.pathname,
      search: url.search,
      path,
      href: request.url,
      query,
    },
    postData: byName
      ? filesByName(request)
      : {
          mimeType: json === null ? "text/plain" : "application/json",
          text: request.parts
            ? partsAsText(request.parts)
            : request.file
              ? inPlace(request.file)
              : (request.body ?? undefined),
          jsonObj: json ?? undefined,
        },
  };
  const client: Client = LANGUAGES[language];
  const options = { binary: byName };
  const text = client.convert(prepared as unknown as Parameters<Client["convert"]>[0], options) as string;
  // The package takes every answer for JSON here.
  return language === "JavaScript" && !request.answersJson
    ? text.replace("await response.json()", "await response.text()")
    : text;
}

/** What is sent of a form or a file, where a program reads files by their names. */
function filesByName({ parts, file }: Request) {
  if (file) return { mimeType: typeOf(file), text: `@${file.file.name}` };
  const params = (parts ?? []).map(({ name, value }) =>
    typeof value === "string" ? { name, value } : { name, fileName: value.file.name },
  );
  return { mimeType: "multipart/form-data", params };
}
