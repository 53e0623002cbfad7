import { api, type Console } from "../../api/console";
import { Dialog, Note } from "../../kit/controls";
import { Choices, Line, Tick } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";

type Product = Console["ProductView"];

const KINDS = [
  ["key", "an API key"],
  ["basic", "the application's id and secret, by HTTP Basic"],
  ["client", "a token of the token endpoint (OAuth 2 client credentials)"],
  ["token", "a signed token of a trusted issuer"],
  ["certificate", "a client certificate (mutual TLS, ended by a reverse proxy)"],
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
  const entry = useEntry({
    start: product.credentials,
    send: (body) =>
      api.put("/products/{product_id}/credentials", {
        params: { path: { product_id: product.id }, header: { "if-match": `"${product.edition}"` } },
        body,
      }),
    done: onDone,
  });
  const { kinds, key_query } = entry.form.watch();
  return (
    <Dialog wide open onClose={onClose} title={`${product.name}: how callers prove who they are`}>
      <Form of={entry}>
        <Choices name="kinds" label="They show" choices={KINDS} none="Choose at least one." />
        {kinds.includes("key") && (
          <div className="grid grid-cols-2 gap-x-6">
            <Line name="key_header" label="A key comes in the header" required />
            <Line name="key_query" label="and, if named here, in the query parameter" placeholder="none" />
          </div>
        )}
        {key_query && (
          <Note>
            A key in the address is seen by proxies and kept in logs and browser histories on its way here. It
            is taken out before the back end is asked.
          </Note>
        )}
        <Tick name="older_fields">
          Replies also carry X-RateLimit-Limit, -Remaining and -Reset, for clients that know only those
        </Tick>
        <p className="text-[13px] text-soft">A change holds on every gateway within a second.</p>
        <Ends onLeave={onClose}>
          <Send disabled={kinds.length === 0}>Save</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
