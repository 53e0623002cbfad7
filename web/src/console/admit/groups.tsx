import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { groups, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { Several } from "../../kit/choose";
import { Button, Dialog, Field, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Page } from "../frame";
import { ConsumerChoice } from "./consumer-choice";

type Group = Console["GroupView"];

/** Groups of consumers: who may see what others may not even name. */
export function Groups() {
  const stale = useStale();
  const list = useQuery(groups());
  const [name, setName] = useState("");
  const [edited, setEdited] = useState<Group | null>(null);
  const make = useMutation({
    mutationFn: () => api.post("/groups", { body: { name } }),
    onSuccess: () => {
      setName("");
      stale(STALE.group);
    },
  });
  return (
    <Page title="Groups" sub="A product or plan shown to groups is hidden from everybody else, its name too.">
      <form
        className="my-4 flex items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <div className="w-64">
          <Field label="Name of a new group" required value={name} onChange={setName} />
        </div>
        <Button type="submit" className="mb-3" disabled={make.isPending}>
          Make it
        </Button>
      </form>
      <Trouble error={make.error ?? list.error} />
      {list.isPending && <Waiting words="Reading the groups" />}
      {list.data?.length === 0 && (
        <p className="text-soft">There is no group yet. Without groups everybody sees everything on sale.</p>
      )}
      {(list.data ?? []).length > 0 && (
        <table className="plain-table">
          <thead>
            <tr>
              <th>Group</th>
              <th>Consumers</th>
              <th>Sees, alone</th>
            </tr>
          </thead>
          <tbody>
            {list.data?.map((g) => (
              <tr key={g.id}>
                <td>
                  <WordButton onClick={() => setEdited(g)}>{g.name}</WordButton>
                </td>
                <td>{g.consumers.join(", ") || <span className="text-soft">nobody yet</span>}</td>
                <td>{g.sees.join(", ") || <span className="text-soft">nothing yet</span>}</td>
              </tr>
            ))}
          </tbody>
        </table>
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
