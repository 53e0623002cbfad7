import type { Portal } from "../api/portal";
import { Table } from "../kit/table";

type Product = Portal["Storefront"];

export function Operations({ product, gateway }: { product: Product; gateway: string }) {
  const first = product.operations.findLast((o) => o.method === "GET") ?? product.operations.at(-1);
  return (
    <>
      <Table
        className="max-w-[860px]"
        rows={product.operations}
        id={(o) => o.method + o.path}
        columns={[
          {
            head: "Operation",
            cell: (o) => (
              <code className="font-mono text-[13px]">
                {o.method} {o.url_path}
              </code>
            ),
          },
          { head: "What it gives", cell: (o) => o.summary },
        ]}
      />
      {first && (
        <>
          <h2 className="mt-6 mb-1.5">A first call</h2>
          <pre className="overflow-x-auto bg-(--portal-tint) p-3 font-mono text-[13px]">
            {firstCall(product.key_header, gateway, first)}
          </pre>
        </>
      )}
    </>
  );
}

/** A call as it is typed, with a body where its method sends one. */
function firstCall(header: string, gateway: string, of: Product["operations"][number]): string {
  const method = of.method === "GET" ? "" : of.method === "HEAD" ? " --head" : ` -X ${of.method}`;
  const body = ["POST", "PUT", "PATCH"].includes(of.method)
    ? ` -H "Content-Type: application/json" -d '{}'`
    : "";
  const path = of.url_path.replace(/\{[^}]*\}/g, "lm-01");
  return `curl${method} -H "${header}: YOUR_KEY"${body} ${gateway}${path}`;
}
