import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { STALE } from "../api/queries/portal";
import { Line } from "../kit/fields";
import { Form, Refused, Send, useEntry } from "../kit/form";

type App = Portal["ApplicationView"];

/** The application's own words, which back ends may be told. */
export function Tags({ app }: { app: App }) {
  const stale = useStale();
  const kept = written(app.tags);
  const entry = useEntry({
    start: { tags: kept },
    kept: { tags: kept },
    send: ({ tags }) =>
      api.put("/applications/{application_id}/tags", {
        params: { path: { application_id: app.id } },
        body: { tags: pairs(tags) },
      }),
    done: () => stale(STALE.key),
  });
  const { tags } = entry.form.watch();
  return (
    <Form of={entry} className="mt-8 flex max-w-[760px] items-end gap-3">
      <div className="flex-1">
        <Line
          name="tags"
          label="Tags, passed on where an API wants to know who calls"
          placeholder="region=west, ship=17"
        />
        <Refused />
      </div>
      <Send main={false} disabled={tags === kept} className="mb-3">
        Save the tags
      </Send>
    </Form>
  );
}

/** Names and values of `region=west, ship=17`. */
export function pairs(words: string): Record<string, string> {
  const parts = words.split(",").map((pair) => pair.split("=").map((part) => part.trim()));
  return Object.fromEntries(parts.filter(([name]) => name).map(([name = "", value = ""]) => [name, value]));
}

/** Names and values as one writes them. */
export function written(tags: Record<string, string>): string {
  return Object.entries(tags)
    .map(([name, value]) => `${name}=${value}`)
    .join(", ");
}
