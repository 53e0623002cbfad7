import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type Console } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { STALE } from "../../../api/queries/settle";
import { Dialog, Trouble, WordButton } from "../../../kit/controls";
import { Line } from "../../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../../kit/form";
import { amount, count, plural } from "../../../kit/format";
import { Listing } from "../../../kit/list";
import { useList } from "../../list";

type Draft = Console["DraftRow"];

/** A month's drafts, what is out of the ordinary first. */
export function Review({
  start,
  finance,
  actions,
}: {
  start: string;
  finance: boolean;
  actions: (drafts: Console["Drafts"]) => React.ReactNode;
}) {
  const navigate = useNavigate();
  const [holding, setHolding] = useState<Draft | null>(null);
  const list = useList(
    "/periods/{start}/drafts",
    (query) => api.get("/periods/{start}/drafts", { params: { path: { start }, query } }),
    { fill: { start } },
  );
  const whole = list.first;
  return (
    <>
      <Listing
        list={list}
        id={(d) => d.invoice_id}
        words="Consumer named"
        reading="Reading the drafts"
        empty="No draft is left of this month."
        open={(d) => navigate(`/settle/invoices/${d.invoice_id}`)}
        actions={whole && actions(whole)}
        columns={[
          {
            head: "Consumer",
            sort: "consumer",
            cell: (d) => (
              <Link className="figure-link" to={`/settle/invoices/${d.invoice_id}`}>
                {d.consumer}
              </Link>
            ),
          },
          {
            head: "Out of the ordinary",
            sort: "ordinary",
            cell: (d) => (
              <>
                {d.findings.map((said) => (
                  <div key={said}>{said}</div>
                ))}
                {d.held && <div className="text-brass">held back by {d.held}</div>}
                {d.findings.length === 0 && !d.held && <span className="text-soft">nothing</span>}
              </>
            ),
          },
          finance && {
            head: "Hold back",
            quiet: true,
            look: "whitespace-nowrap",
            cell: (d) =>
              d.held ? (
                <LetGo of={d} />
              ) : (
                <WordButton onClick={() => setHolding(d)}>
                  hold back<span className="sr-only"> {d.consumer}</span>…
                </WordButton>
              ),
          },
          {
            head: "Last month",
            sort: "last month",
            number: true,
            cell: (d) => (d.last_month === null ? "" : amount(d.last_month, d.currency)),
          },
          {
            head: "Before tax",
            sort: "charge",
            number: true,
            look: "text-brass",
            cell: (d) => amount(d.subtotal, d.currency),
          },
        ]}
        foot={
          whole && (
            <tr>
              <td colSpan={finance ? 4 : 3}>
                Together, {plural(whole.to_issue + whole.held, "draft")}
                {whole.held > 0 && `, ${whole.to_issue ? `${count(whole.held)} of them ` : ""}held back`}
              </td>
              <td className="number font-semibold text-brass">{amount(whole.subtotal)}</td>
            </tr>
          )
        }
      />
      {holding && <Hold of={holding} onClose={() => setHolding(null)} />}
    </>
  );
}

function LetGo({ of: d }: { of: Draft }) {
  const stale = useStale();
  const go = useMutation({
    mutationFn: () =>
      api.delete("/invoices/{invoice_id}/held-back", { params: { path: { invoice_id: d.invoice_id } } }),
    onSuccess: () => stale(STALE.invoices),
  });
  return (
    <>
      <WordButton onClick={() => go.mutate()}>
        let go<span className="sr-only"> {d.consumer}</span>
      </WordButton>
      <Trouble error={go.error} />
    </>
  );
}

function Hold({ of: d, onClose }: { of: Draft; onClose: () => void }) {
  const stale = useStale();
  const entry = useEntry({
    start: { why: "" },
    send: (body) =>
      api.put("/invoices/{invoice_id}/held-back", {
        params: { path: { invoice_id: d.invoice_id } },
        body,
      }),
    done: async () => {
      await stale(STALE.invoices);
      onClose();
    },
  });
  return (
    <Dialog open onClose={onClose} title={`Hold ${d.consumer} back`}>
      <p className="mb-2 text-soft">
        Its draft of {amount(d.subtotal, d.currency)} before tax is not issued until somebody lets it go.
      </p>
      <Form of={entry}>
        <Line name="why" label="Why" required autoFocus />
        <Ends onLeave={onClose}>
          <Send>Hold it back</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
