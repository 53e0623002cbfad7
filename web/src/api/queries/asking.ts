import { type QueryClient, type QueryKey, type UseQueryOptions, useQueryClient } from "@tanstack/react-query";
import type { PathsWithMethod } from "openapi-typescript-helpers";
import { useCallback } from "react";
import type { Answer, Init } from "../problem";

export type Read<P extends object> = Extract<PathsWithMethod<P, "get">, string>;
/** The lists of an API, each of which is a file too. */
export type List<P> = { [Path in keyof P]: Path extends `${infer Name}.csv` ? Name : never }[keyof P];
type Get<P extends object> = <Path extends PathsWithMethod<P, "get">>(
  path: Path,
  init?: Init<P, Path, "get">,
) => Promise<Answer<P, Path, "get">>;
type More<T> = Omit<UseQueryOptions<T>, "queryKey" | "queryFn">;

/** Questions to an API, each known by its path and by what fills the path: no key is thought up, and what a change
 * makes stale is told by paths. */
export function asking<P extends object>({ get }: { get: Get<P> }) {
  return <Path extends Read<P>>(
    path: Path,
    init?: Init<P, Path, "get">,
    more?: More<Answer<P, Path, "get">>,
  ): UseQueryOptions<Answer<P, Path, "get">> => ({
    queryKey: [path, init ?? {}],
    queryFn: () => get(path, init),
    ...more,
  });
}

/** Marks as stale what was read from some paths, and settles when what is shown of it has been read again. */
export async function makeStale(queries: QueryClient, paths: readonly string[]): Promise<void> {
  await Promise.all(paths.map((path) => queries.invalidateQueries({ queryKey: [path] })));
}

/** Shows what a change answered in place of what was read. What is being read meanwhile may be of before the change, and
 * is let go: shown afterwards, it would undo before one's eyes what was just done. */
export async function showAnswer<T>(
  queries: QueryClient,
  question: { queryKey: QueryKey },
  answer: T,
): Promise<void> {
  await queries.cancelQueries({ queryKey: question.queryKey, exact: true });
  queries.setQueryData(question.queryKey, answer);
}

/** For a component: what marks paths as stale. */
export function useStale(): (paths: readonly string[]) => Promise<void> {
  const queries = useQueryClient();
  return useCallback((paths: readonly string[]) => makeStale(queries, paths), [queries]);
}

/** Somebody came in: what was read before, by whomever, is gone, and what is shown is read again. */
export async function entered(queries: QueryClient): Promise<void> {
  queries.removeQueries({ type: "inactive" });
  await queries.invalidateQueries();
}

/** Nobody is here any more: nothing that was read is kept, nor shown while it is read as anybody may read it. */
export async function left(queries: QueryClient): Promise<void> {
  queries.removeQueries({ type: "inactive" });
  await queries.resetQueries();
}
