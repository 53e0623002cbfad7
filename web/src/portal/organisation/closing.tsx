import { useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { api, type Portal } from "../../api/portal";
import { entered } from "../../api/queries/asking";
import { closing, difference } from "../../api/queries/portal";
import { Trouble, Waiting } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { amount, date } from "../../kit/format";
import { Table } from "../../kit/table";

type Closing = Portal["ClosingView"];
type Ending = Closing["subscriptions"][number];

/** What closing the account would bring with it, to the cent; and then, closing it. */
export function ClosingPage() {
  const query = useQuery(closing());
  if (!query.data)
    return query.error ? (
      <Trouble error={query.error} />
    ) : (
      <Waiting words="Working out what it would come to" />
    );
  const of = query.data;
  return (
    <>
      <h1>Close the account of {of.name}</h1>
      <p className="mt-1 text-soft">
        <Link className="figure-link" to="/organisation">
          Back to who belongs to it
        </Link>
      </p>
      {of.subscriptions.length > 0 && <Endings of={of.subscriptions} />}
      <ul className="mt-4 max-w-[68ch] list-disc pl-5">
        {of.said.map((words) => (
          <li key={words} className="py-0.5">
            {words}
          </li>
        ))}
      </ul>
      {of.hindered ? (
        <p className="mt-5 max-w-[68ch] border-l-[3px] border-(--portal-accent) pl-3">
          It cannot be closed yet: a plan asks for notice. End that subscription first; once it has ended,
          come back here.
        </p>
      ) : (
        <Close name={of.name} />
      )}
    </>
  );
}

function Endings({ of }: { of: Ending[] }) {
  const due = useQueries({
    queries: of.map((each) => ({
      ...difference(each.subscription_id, { kind: "end", when: "now" }),
      enabled: each.last_day === null,
    })),
  });
  return (
    <section aria-label="What ends" className="relative mt-4 overflow-x-auto">
      <Table
        className="max-w-[860px]"
        rows={of}
        id={(e) => e.subscription_id}
        columns={[
          {
            head: "Ends",
            names: true,
            cell: (e) => (
              <Link className="figure-link" to={`/subscriptions/${e.subscription_id}`}>
                {e.offer}
              </Link>
            ),
          },
          { head: "Of", cell: (e) => e.application },
          {
            head: "When",
            cell: (e) => (e.last_day ? `with ${date(e.last_day)} at the earliest, after notice` : "at once"),
          },
          {
            head: "Due this month, before tax",
            number: true,
            cell: (e, at) => {
              if (e.last_day) return "";
              const found = due[at]?.data;
              return found ? amount(found.after.subtotal, found.currency) : "working it out …";
            },
          },
        ]}
      />
    </section>
  );
}

function Close({ name }: { name: string }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const entry = useEntry({
    start: { name: "", password: "" },
    send: (body) => api.post("/organisation/closing", { body }),
    done: async () => {
      navigate("/organisation");
      await entered(queries);
    },
  });
  return (
    <Form of={entry} className="mt-6 max-w-[420px]">
      <Line
        name="name"
        label="The organisation's name, as it is"
        placeholder={name}
        autoComplete="off"
        required
      />
      <Line name="password" label="Your password" type="password" autoComplete="current-password" required />
      <Refused />
      <Send className="mt-1">Close the account for good</Send>
    </Form>
  );
}
