import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { groups, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { Several } from "../../kit/choose";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { Table } from "../../kit/table";
import { Page } from "../frame";
import { ConsumerChoice } from "./consumer-choice";

type Group = Console["GroupView"];

/** Groups of consumers: who may see what others may not even name. */
export function Groups() {
  const stale = useStale();
  const list = useQuery(groups());
  const [edited, setEdited] = useState<Group | null>(null);
  const make = useEntry({
    start: { name: "" },
    send: (body) => api.post("/groups", { body }),
    afresh: true,
    done: () => stale(STALE.group),
  });
  return (
    <Page title="Groups" sub="A product or plan shown to groups is hidden from everybody else, its name too.">
      <Form of={make} className="my-4">
        <div className="flex items-end gap-3">
          <div className="w-64">
            <Line name="name" label="Name of a new group" required />
          </div>
          <Send main={false} className="mb-3">
            Make it
          </Send>
        </div>
        <Refused />
      </Form>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the groups" />}
      {list.data?.length === 0 && (
        <p className="text-soft">There is no group yet. Without groups everybody sees everything on sale.</p>
      )}
      {(list.data ?? []).length > 0 && (
        <Table
          rows={list.data ?? []}
          id={(g) => g.id}
          columns={[
            {
              head: "Group",
              cell: (g) => <WordButton onClick={() => setEdited(g)}>{g.name}</WordButton>,
            },
            {
              head: "Consumers",
              cell: (g) => g.consumers.join(", ") || <span className="text-soft">nobody yet</span>,
            },
            {
              head: "Sees, alone",
              cell: (g) => g.sees.join(", ") || <span className="text-soft">nothing yet</span>,
            },
          ]}
        />
      )}
      {edited && <Members key={edited.id} group={edited} onClose={() => setEdited(null)} />}
    </Page>
  );
}

function Members({ group, onClose }: { group: Group; onClose: () => void }) {
  const stale = useStale();
  const [members, setMembers] = useState(
    group.consumer_ids.map((id, n) => [id, group.consumers[n] ?? ""] as const),
  );
  const [chosen, setChosen] = useState(group.consumer_ids);
  const add = (id: number, name: string) => {
    if (!members.some(([one]) => one === id)) setMembers([...members, [id, name]]);
    if (!chosen.includes(id)) setChosen([...chosen, id]);
  };
  const save = useMutation({
    mutationFn: () =>
      api.put("/groups/{group_id}", {
        params: { path: { group_id: group.id } },
        body: { consumers: chosen },
      }),
    onSuccess: async () => {
      await stale(STALE.group);
      onClose();
    },
  });
  return (
    <Dialog wide open onClose={onClose} title={group.name}>
      <Several
        label="Its consumers"
        chosen={chosen}
        choices={members}
        none="Nobody is in it."
        onChange={setChosen}
      />
      <div className="mb-3 max-w-80 text-[13px] text-soft">
        Another consumer
        <ConsumerChoice
          key={chosen.length}
          label="Another consumer"
          nobody="its name"
          className="field text-ink"
          chosen={null}
          onChoose={(c) => c && add(c.id, c.name)}
        />
      </div>
      {group.sees.length > 0 && (
        <p className="mb-3 text-soft">
          Whoever leaves it keeps the subscriptions they have, but no longer sees {group.sees.join(", ")}.
        </p>
      )}
      <Trouble error={save.error} />
      <Button main disabled={save.isPending} onClick={() => save.mutate()}>
        Save
      </Button>
    </Dialog>
  );
}
