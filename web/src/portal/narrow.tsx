import { useQuery } from "@tanstack/react-query";
import { api, type Portal } from "../api/portal";
import { useStale } from "../api/queries/asking";
import { applicationOperations, STALE } from "../api/queries/portal";
import { Dialog, Trouble, Waiting } from "../kit/controls";
import { Choices, Line } from "../kit/fields";
import { Ends, Form, Send, useEntry } from "../kit/form";

type Key = Portal["KeyView"];
type Offered = Portal["OperationOffered"];

/** A key is narrowed: to where its calls may come from, and what they may ask for. */
export function Narrow({ of, application, onClose }: { of: Key; application: number; onClose: () => void }) {
  const query = useQuery(applicationOperations(application));
  return (
    <Dialog open onClose={onClose} title={`Narrow ${of.prefix}…`} wide>
      <Trouble error={query.error} />
      {query.isPending && <Waiting words="Reading what its plans cover" />}
      {query.data && <Bounds of={of} offered={query.data} onClose={onClose} />}
    </Dialog>
  );
}

function Bounds({ of, offered, onClose }: { of: Key; offered: Offered[]; onClose: () => void }) {
  const stale = useStale();
  const several = new Set(offered.map((o) => o.api)).size > 1;
  const entry = useEntry({
    start: { addresses: of.addresses.join("\n"), operations: of.operations },
    send: ({ addresses, operations }) =>
      api.put("/keys/{key_id}/bounds", {
        params: { path: { key_id: of.id } },
        body: { addresses: addresses.split(/[\s,]+/).filter(Boolean), operations },
      }),
    done: async () => {
      await stale(STALE.key);
      onClose();
    },
  });
  return (
    <Form of={entry}>
      <p className="mb-3">
        Calls with it from elsewhere, or for other operations, are refused within a second.
      </p>
      <Line
        name="addresses"
        label="Its calls may come from these addresses and networks"
        area
        hint="One to a line, such as 192.0.2.7 or 2001:db8::/32. With none, from anywhere."
      />
      <Choices
        name="operations"
        label="And may be for these operations"
        choices={offered.map((o) => [o.id, several ? `${o.label}, ${o.api}` : o.label] as const)}
        none="all that its plans cover"
      />
      <Ends leave="Leave it as it is" onLeave={onClose}>
        <Send>Narrow it</Send>
      </Ends>
    </Form>
  );
}
