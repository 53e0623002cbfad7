import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { Several } from "../../kit/choose";
import { Button, Dialog, Field, Note, Trouble } from "../../kit/controls";

type Product = Console["ProductView"];

const KINDS = [
  ["key", "an API key"],
  ["basic", "the application's id and secret, by HTTP Basic"],
  ["client", "a token of the token endpoint (OAuth 2 client credentials)"],
  ["token", "a signed token of a trusted issuer"],
] as const;

/** How callers of a product prove who they are, and which older fields its replies carry. */
export function Credentials({
  product,
  onClose,
  onDone,
}: {
  product: Product;
  onClose: () => void;
  onDone: (product: Product) => void;
}) {
  const [typed, setTyped] = useState(product.credentials);
  const set = (part: Partial<Product["credentials"]>) => setTyped({ ...typed, ...part });
  const save = useMutation({
    mutationFn: () =>
      api.put("/products/{product_id}/credentials", {
        params: { path: { product_id: product.id }, header: { "if-match": `"${product.edition}"` } },
        body: typed,
      }),
    onSuccess: onDone,
  });
  return (
    <Dialog wide open onClose={onClose} title={`${product.name}: how callers prove who they are`}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Several
          label="They show"
          chosen={typed.kinds}
          choices={KINDS}
          none="Choose at least one."
          onChange={(kinds) => set({ kinds })}
        />
        {typed.kinds.includes("key") && (
          <div className="grid grid-cols-2 gap-x-6">
            <Field
              label="A key comes in the header"
              required
              value={typed.key_header}
              onChange={(key_header) => set({ key_header })}
            />
            <Field
              label="and, if named here, in the query parameter"
              placeholder="none"
              value={typed.key_query}
              onChange={(key_query) => set({ key_query })}
            />
          </div>
        )}
        {typed.key_query && (
          <Note>
            A key in the address is seen by proxies and kept in logs and browser histories on its way here. It
            is taken out before the back end is asked.
          </Note>
        )}
        <label className="flex items-baseline gap-2 py-2">
          <input
            type="checkbox"
            className="accent-(--color-kelp)"
            checked={typed.older_fields}
            onChange={(e) => set({ older_fields: e.target.checked })}
          />
          Replies also carry X-RateLimit-Limit, -Remaining and -Reset, for clients that know only those
        </label>
        <p className="text-[13px] text-soft">A change holds on every gateway within a second.</p>
        <Trouble error={save.error} />
        <div className="mt-3 flex justify-end gap-2">
          <Button onClick={onClose}>Leave it</Button>
          <Button main type="submit" disabled={save.isPending || typed.kinds.length === 0}>
            Save
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
