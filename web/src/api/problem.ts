import type { Client, FetchResponse, MaybeOptionalInit } from "openapi-fetch";
import type { HttpMethod, MediaType, PathsWithMethod } from "openapi-typescript-helpers";

/** One thing that was refused: where, as the path of what was sent, and why. */
export type Refused = { where: string; what: string };

/** What the product answers when something cannot be done: what, to which field, and, on 412, what it is now. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly where: string,
    detail: string,
    readonly current: unknown = null,
    /** Everything that was refused, the first of which the rest speaks of. */
    readonly refusals: readonly Refused[] = [{ where, what: detail }],
  ) {
    super(detail);
  }

  /** The same answer, speaking of another of its refusals. */
  about({ where, what }: Refused): Problem {
    return new Problem(this.status, where, what, this.current);
  }
}

type Operation<P, Path extends keyof P, M> = M extends keyof P[Path] ? P[Path][M] : never;
export type Init<P, Path extends keyof P, M extends HttpMethod> = M extends keyof P[Path]
  ? MaybeOptionalInit<P[Path], M>
  : never;
export type Answer<P, Path extends keyof P, M> =
  Operation<P, Path, M> extends infer O extends Record<string | number, unknown>
    ? NonNullable<FetchResponse<O, object, "application/json">["data"]>
    : never;

/** The client's methods, each answering with the data itself or throwing a `Problem`. */
export function settled<P extends object, Media extends MediaType>(client: Client<P, Media>) {
  type Call<M extends HttpMethod> = <Path extends PathsWithMethod<P, M>>(
    path: Path,
    init?: Init<P, Path, M>,
  ) => Promise<Answer<P, Path, M>>;
  const wrap =
    <M extends HttpMethod>(method: "GET" | "POST" | "PUT" | "DELETE"): Call<M> =>
    async (path, init) => {
      const send = client[method] as unknown as (p: unknown, i: unknown) => Promise<Sent>;
      const { data, error, response } = await send(path, init).catch(() => {
        throw new Problem(0, "", "The server does not answer. Nothing was changed; try again shortly.");
      });
      if (!response.ok) throw problem(response, error);
      return data as never;
    };
  return {
    get: wrap<"get">("GET"),
    post: wrap<"post">("POST"),
    put: wrap<"put">("PUT"),
    delete: wrap<"delete">("DELETE"),
  };
}

function problem(response: Response, body: unknown): Problem {
  const told = (body ?? {}) as { detail?: string; where?: string; current?: unknown; refused?: Refused[] };
  const detail = told.detail ?? response.statusText;
  return new Problem(response.status, told.where ?? "", detail, told.current, told.refused);
}

/** What an answer that was fetched by itself refuses. */
export async function refused(response: Response): Promise<Problem> {
  return problem(response, await response.json().catch(() => null));
}

type Sent = { data?: unknown; error?: unknown; response: Response };

/** What came with a letter's link, and nobody typed. */
const UNTYPED = "token";

/** A problem as a sentence: the field first, where it is known and somebody filled it in. */
export function sentence(error: unknown): string {
  if (!(error instanceof Problem)) return String(error);
  const field = error.where.split(".").at(-1)?.replaceAll("_", " ") ?? "";
  return said(field && field !== UNTYPED ? `${field}: ${error.message}` : error.message);
}

/** Words as a sentence. */
export function said(words: string): string {
  return `${words[0]?.toUpperCase() ?? ""}${words.slice(1)}`.replace(/\.?$/, ".");
}
