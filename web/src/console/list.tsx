import type { paths } from "../api/console";
import type { List } from "../api/queries/asking";
import { type How, Listing, type ListingProps, type PageOf, type Query, useListOf } from "../kit/list";
import { Page } from "./frame";

/** One of the console's lists. */
export function useList<T, More = unknown>(
  path: List<paths>,
  read: (query: Query) => Promise<PageOf<T> & More>,
  how?: How,
) {
  return useListOf<T, More>("/api/v1", path, read, how);
}

/** A page that is one list. */
export function ListPage<T>({
  title,
  sub,
  ...list
}: ListingProps<T> & { title: string; sub: React.ReactNode }) {
  return (
    <Page title={title} sub={sub}>
      <Listing {...list} />
    </Page>
  );
}
