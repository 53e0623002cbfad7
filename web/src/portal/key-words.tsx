import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { STALE } from "../api/queries/portal";
import { Dialog } from "../kit/controls";
import { Line } from "../kit/fields";
import { Ends, Form, Send, useEntry } from "../kit/form";
import { pairs, written } from "./tags";

/** What a key is called, and its owner's own words for it. */
export function KeyWords({ of, onClose }: { of: Portal["KeyView"]; onClose: () => void }) {
  const stale = useStale();
  const entry = useEntry({
    start: { label: of.label, tags: written(of.tags) },
    send: ({ label, tags }) =>
      api.put("/keys/{key_id}", { params: { path: { key_id: of.id } }, body: { label, tags: pairs(tags) } }),
    done: async () => {
      await stale(STALE.key);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`${of.prefix}…`}>
      <Form of={entry}>
        <Line name="label" label="Label" required autoFocus />
        <Line name="tags" label="Tags, for yourselves alone" placeholder="ship=17, team=quay" />
        <Ends onLeave={onClose}>
          <Send>Save</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
