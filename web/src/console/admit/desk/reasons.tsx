import { useQuery } from "@tanstack/react-query";
import { api } from "../../../api/console";
import { declineReasons, STALE } from "../../../api/queries/admit";
import { useStale } from "../../../api/queries/asking";
import { Choose } from "../../../kit/choose";
import { Trouble, Waiting } from "../../../kit/controls";
import { Line } from "../../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../../kit/form";
import { Page } from "../../frame";

/** Why something is declined, of the provider's own list. */
export function Reason({ value, onChange }: { value: string; onChange: (reason: string) => void }) {
  const list = useQuery(declineReasons());
  if (!list.data?.length) return null;
  return (
    <Choose
      label="Reason, where it is declined"
      className="max-w-[420px]"
      value={value}
      choices={[["", "none of the list"], ...list.data.map((one) => [one, one] as const)]}
      onChange={onChange}
    />
  );
}

/** The reasons for declining that are given again and again, one to a line. */
export function Reasons() {
  const list = useQuery(declineReasons());
  return (
    <Page
      title="Reasons for declining"
      sub="Chosen from when a request is declined; words of one's own come after it."
    >
      {list.isPending && <Waiting words="Reading the list" />}
      <Trouble error={list.error} />
      {list.data && <Edit kept={list.data} />}
    </Page>
  );
}

function Edit({ kept }: { kept: string[] }) {
  const stale = useStale();
  const entry = useEntry({
    start: { reasons: kept.join("\n") },
    send: ({ reasons }) =>
      api.put("/decline-reasons", {
        body: reasons
          .split("\n")
          .map((line) => line.trim())
          .filter(Boolean),
      }),
    done: () => stale(STALE.declineReasons),
  });
  return (
    <Form of={entry} className="mt-4 max-w-[560px]">
      <Line name="reasons" label="One to a line" area rows={8} />
      <Send>Keep the list</Send>
      {entry.sent && <p className="mt-2 text-soft">Kept.</p>}
      <Refused />
    </Form>
  );
}
