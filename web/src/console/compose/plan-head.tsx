import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api } from "../../api/console";
import { groups as ofGroups } from "../../api/queries/admit";
import { Dialog, Trouble } from "../../kit/controls";
import { Choice, Choices } from "../../kit/fields";
import { Ends, Form, Refused, Send, useEntry } from "../../kit/form";
import { plural } from "../../kit/format";
import { Menu, MenuItem, MenuRule } from "../../kit/menu";
import { NameDialog } from "../../kit/name-dialog";
import type { Sheet } from "./sheet-changes";

type Plan = Sheet["plans"][number];
type Props = { plan: Plan; sheet: Sheet; onShow: (sheet: Sheet) => void };
type Asked = "rename" | "copy" | "groups" | "withdraw" | null;

/** A column's head: its name and standing, and what can be done with the plan as a whole. */
export function PlanHead({ plan, sheet, onShow }: Props) {
  const navigate = useNavigate();
  const [asked, setAsked] = useState<Asked>(null);
  const done = (next: Sheet) => {
    setAsked(null);
    onShow(next);
  };
  const act = useMutation({ mutationFn: (make: () => Promise<Sheet>) => make(), onSuccess: done });
  const path = { plan_id: plan.id };
  const ids = sheet.plans.map((p) => p.id);
  const place = ids.indexOf(plan.id);
  const swap = (by: number) => {
    const order = [...ids];
    order.splice(place, 1);
    order.splice(place + by, 0, plan.id);
    act.mutate(() =>
      api.put("/products/{product_id}/order", {
        params: { path: { product_id: sheet.product.id } },
        body: { order },
      }),
    );
  };
  return (
    <th className="group/head relative px-3 pb-1.5 text-left font-normal">
      <span className="font-serif text-[19px]">{plan.name}</span>
      <Menu
        label={`More for the plan ${plan.name}`}
        trigger="+"
        className="ml-1.5 px-1 text-soft hover:text-ink"
      >
        <MenuItem onSelect={() => navigate(`/compose/plans/${plan.id}/limits`)}>What a caller gets</MenuItem>
        {plan.revision_id !== null && (
          <MenuItem onSelect={() => navigate(`/compose/revisions/${plan.revision_id}`)}>
            Published revisions
          </MenuItem>
        )}
        <MenuItem onSelect={() => navigate(`/compose/plans/${plan.id}/document`)}>
          Its OpenAPI document
        </MenuItem>
        <MenuRule />
        <MenuItem onSelect={() => setAsked("rename")}>Rename…</MenuItem>
        <MenuItem onSelect={() => setAsked("copy")}>Copy as a new plan…</MenuItem>
        <MenuItem onSelect={() => setAsked("groups")}>Who sees it…</MenuItem>
        {place > 0 && <MenuItem onSelect={() => swap(-1)}>Move to the left</MenuItem>}
        {place < ids.length - 1 && <MenuItem onSelect={() => swap(1)}>Move to the right</MenuItem>}
        <MenuRule />
        {plan.drafted && plan.live_revision !== null && (
          <MenuItem
            onSelect={() => act.mutate(() => api.delete("/plans/{plan_id}/draft", { params: { path } }))}
          >
            Go back to the live terms
          </MenuItem>
        )}
        {plan.moves.includes("closed") && (
          <MenuItem
            onSelect={() => act.mutate(() => api.post("/plans/{plan_id}/close", { params: { path } }))}
          >
            Close to new subscribers
          </MenuItem>
        )}
        {plan.state === "closed" && (
          <MenuItem
            onSelect={() => act.mutate(() => api.post("/plans/{plan_id}/reopen", { params: { path } }))}
          >
            Sell it again
          </MenuItem>
        )}
        {plan.state !== "draft" && <MenuItem onSelect={() => setAsked("withdraw")}>Withdraw…</MenuItem>}
        {plan.state === "draft" && (
          <MenuItem onSelect={() => act.mutate(() => api.delete("/plans/{plan_id}", { params: { path } }))}>
            Take it off the sheet
          </MenuItem>
        )}
      </Menu>
      <small className="block text-[12px] text-soft">
        {plan.state} · {plural(plan.subscriptions, "subscription")}
        {plan.groups.length > 0 && <span className="block">only for {plan.groups.join(", ")}</span>}
      </small>
      <Trouble error={act.error} />
      {(asked === "rename" || asked === "copy") && (
        <NameDialog
          title={asked === "rename" ? `Another name for ${plan.name}` : `A new plan like ${plan.name}`}
          verb={asked === "rename" ? "Rename it" : "Add the plan"}
          start={asked === "rename" ? plan.name : ""}
          onClose={() => setAsked(null)}
          send={async (name) =>
            done(
              await (asked === "rename"
                ? api.put("/plans/{plan_id}/name", { params: { path }, body: { name } })
                : api.post("/products/{product_id}/plans", {
                    params: { path: { product_id: sheet.product.id } },
                    body: { name, like: plan.id },
                  })),
            )
          }
        />
      )}
      {asked === "groups" && (
        <SeenBy
          plan={plan}
          onClose={() => setAsked(null)}
          send={(groups) => api.put("/plans/{plan_id}/groups", { params: { path }, body: { groups } })}
          done={done}
        />
      )}
      {asked === "withdraw" && (
        <Withdraw
          plan={plan}
          others={sheet.plans.filter((p) => p.id !== plan.id && p.live_revision !== null)}
          onClose={() => setAsked(null)}
          send={(move_to) => api.post("/plans/{plan_id}/withdraw", { params: { path }, body: { move_to } })}
          done={done}
        />
      )}
    </th>
  );
}

type DialogProps<T> = {
  onClose: () => void;
  send: (value: T) => Promise<Sheet>;
  done: (next: Sheet) => void;
};

function SeenBy({ plan, onClose, send, done }: DialogProps<number[]> & { plan: Plan }) {
  const all = useQuery(ofGroups());
  const entry = useEntry({ start: { groups: plan.group_ids }, send: ({ groups }) => send(groups), done });
  const { groups } = entry.form.watch();
  return (
    <Dialog open onClose={onClose} title={`Who sees ${plan.name}`}>
      <Form of={entry}>
        <Choices
          name="groups"
          label="Only consumers of"
          choices={(all.data ?? []).map((g) => [g.id, g.name] as const)}
          none="With no group chosen, everybody who sees the product."
        />
        {all.data?.length === 0 && (
          <p className="mb-3 text-soft">There is no group yet. They are made under Admit, Groups.</p>
        )}
        <Refused />
        <Send>{groups.length ? "Show it to these only" : "Show it to everybody"}</Send>
      </Form>
    </Dialog>
  );
}

function Withdraw({
  plan,
  others,
  onClose,
  send,
  done,
}: DialogProps<number | null> & { plan: Plan; others: Plan[] }) {
  const moves = plan.subscriptions > 0;
  const entry = useEntry({
    start: { move_to: String(others[0]?.id ?? "") },
    send: ({ move_to }) => send(moves ? Number(move_to) : null),
    done,
  });
  const { move_to } = entry.form.watch();
  const target = others.find((p) => String(p.id) === move_to);
  return (
    <Dialog open onClose={onClose} title={`Withdraw ${plan.name}`}>
      <Form of={entry}>
        <p className="mb-3">
          Nobody can subscribe to it any more, and it leaves the sheet. Its published revisions stay readable.{" "}
          {moves
            ? `${plural(plan.subscriptions, "subscription")} on it must move; their members are told by mail, and charges go by the day.`
            : "Nobody is on it."}
        </p>
        {moves && others.length > 0 && (
          <Choice
            name="move_to"
            label="They move, at once, to"
            choices={others.map((p) => [String(p.id), p.name] as const)}
          />
        )}
        {moves && others.length === 0 && (
          <p className="text-madder">No other plan is published that they could move to.</p>
        )}
        <Ends leave="Keep it" onLeave={onClose}>
          <Send disabled={moves && !target}>
            {moves && target
              ? `Withdraw it, and move ${plural(plan.subscriptions, "subscription")} to ${target.name}`
              : "Withdraw it"}
          </Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
