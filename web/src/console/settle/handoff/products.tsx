import { useQuery } from "@tanstack/react-query";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { productsToChoose } from "../../../api/queries/compose";
import { STALE } from "../../../api/queries/settle";
import { Dialog } from "../../../kit/controls";
import { Choice } from "../../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../../kit/form";
import { month, today } from "../../../kit/format";

type Product = Console["OutsideProductView"];

/** The first days of some months, counted from the running one. */
const months = (from: number, many: number): [string, string][] => {
  const [year = 0, running = 1] = today().split("-").map(Number);
  return Array.from({ length: many }, (_, n) => {
    const first = new Date(Date.UTC(year, running - 1 + from + n, 1)).toISOString().slice(0, 10);
    return [first, month(first)];
  });
};

/** Have a product billed outside. */
export function BillOutside({ but, onClose }: { but: Product[]; onClose: () => void }) {
  const stale = useStale();
  const products = useQuery(productsToChoose()).data?.rows ?? [];
  const there = new Set(but.filter((p) => !p.until).map((p) => p.product_id));
  const choices = products
    .filter((p) => !there.has(p.id))
    .map((p): [string, string] => [String(p.id), p.name]);
  const since = months(0, 4);
  const entry = useEntry({
    start: { product: "", since: since[0]?.[0] ?? "" },
    send: ({ product, since }) =>
      api.post("/products/{product_id}/outside-billing", {
        params: { path: { product_id: Number(product || choices[0]?.[0]) } },
        body: { since },
      }),
    done: async () => {
      await stale([...STALE.handoff, ...STALE.invoices]);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title="Bill a product outside">
      <Form of={entry}>
        <Choice name="product" label="Product" choices={choices} autoFocus />
        <Choice name="since" label="From the beginning of" choices={since} />
        <p className="my-2 text-soft">
          From then on its months are not charged here: no fee and no usage of it stands on an invoice. Its
          units are handed on hour by hour, once its consumers and plans are mapped. Months before are charged
          here, late usage for them as well.
        </p>
        <Ends onLeave={onClose}>
          <Send>Bill it outside</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

/** Have a product billed here again. */
export function BillHere({ of, onClose }: { of: Product; onClose: () => void }) {
  const stale = useStale();
  const choices = months(1, 4);
  const entry = useEntry({
    start: { until: choices[0]?.[0] ?? "" },
    send: (body) =>
      api.post("/products/{product_id}/outside-billing/end", {
        params: { path: { product_id: of.product_id } },
        body,
      }),
    done: async () => {
      await stale([...STALE.handoff, ...STALE.invoices]);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Bill ${of.product} here again`}>
      <Form of={entry}>
        <Choice name="until" label="From the beginning of" choices={choices} autoFocus />
        <p className="my-2 text-soft">
          Its months before that stay billed outside, and what comes late for them is still handed on.
        </p>
        <Ends onLeave={onClose}>
          <Send>Bill it here again</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
