import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api } from "../../api/console";
import { groups as ofGroups } from "../../api/queries/admit";
import { Choose, Several } from "../../kit/choose";
import { Button, Dialog, Trouble } from "../../kit/controls";
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
  const act = useMutation({
    mutationFn: (make: () => Promise<Sheet>) => make(),
    onSuccess: (next) => {
      setAsked(null);
      onShow(next);
    },
  });
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
      {!asked && <Trouble error={act.error} />}
      {(asked === "rename" || asked === "copy") && (
        <NameDialog
          title={asked === "rename" ? `Another name for ${plan.name}` : `A new plan like ${plan.name}`}
          verb={asked === "rename" ? "Rename it" : "Add the plan"}
          start={asked === "rename" ? plan.name : ""}
          error={act.error}
          onClose={() => setAsked(null)}
          onGo={(name) =>
            act.mutate(() =>
              asked === "rename"
                ? api.put("/plans/{plan_id}/name", { params: { path }, body: { name } })
                : api.post("/products/{product_id}/plans", {
                    params: { path: { product_id: sheet.product.id } },
                    body: { name, like: plan.id },
                  }),
            )
          }
        />
      )}
      {asked === "groups" && (
        <SeenBy
          plan={plan}
          error={act.error}
          onClose={() => setAsked(null)}
          onGo={(groups) =>
            act.mutate(() => api.put("/plans/{plan_id}/groups", { params: { path }, body: { groups } }))
          }
        />
      )}
      {asked === "withdraw" && (
        <Withdraw
          plan={plan}
          others={sheet.plans.filter((p) => p.id !== plan.id && p.live_revision !== null)}
          error={act.error}
          onClose={() => setAsked(null)}
          onGo={(move_to) =>
            act.mutate(() => api.post("/plans/{plan_id}/withdraw", { params: { path }, body: { move_to } }))
          }
        />
      )}
    </th>
  );
}

type DialogProps<T> = { error: unknown; onClose: () => void; onGo: (value: T) => void };

function SeenBy({ plan, error, onClose, onGo }: DialogProps<number[]> & { plan: Plan }) {
  const groups = useQuery(ofGroups());
  const [chosen, setChosen] = useState(plan.group_ids);
  return (
    <Dialog open onClose={onClose} title={`Who sees ${plan.name}`}>
      <Several
        label="Only consumers of"
        chosen={chosen}
        choices={(groups.data ?? []).map((g) => [g.id, g.name] as const)}
        none="With no group chosen, everybody who sees the product."
        onChange={setChosen}
      />
      {groups.data?.length === 0 && (
        <p className="mb-3 text-soft">There is no group yet. They are made under Admit, Groups.</p>
      )}
      <Trouble error={error} />
      <Button main onClick={() => onGo(chosen)}>
        {chosen.length ? "Show it to these only" : "Show it to everybody"}
      </Button>
    </Dialog>
  );
}

function Withdraw({
  plan,
  others,
  error,
  onClose,
  onGo,
}: DialogProps<number | null> & { plan: Plan; others: Plan[] }) {
  const [to, setTo] = useState(String(others[0]?.id ?? ""));
  const target = others.find((p) => String(p.id) === to);
  const moves = plan.subscriptions > 0;
  return (
    <Dialog open onClose={onClose} title={`Withdraw ${plan.name}`}>
      <p className="mb-3">
        Nobody can subscribe to it any more, and it leaves the sheet. Its published revisions stay readable.{" "}
        {moves
          ? `${plural(plan.subscriptions, "subscription")} on it must move; their members are told by mail, and charges go by the day.`
          : "Nobody is on it."}
      </p>
      {moves && others.length > 0 && (
        <Choose
          label="They move, at once, to"
          value={to}
          choices={others.map((p) => [String(p.id), p.name] as const)}
          onChange={setTo}
        />
      )}
      {moves && others.length === 0 && (
        <p className="text-madder">No other plan is published that they could move to.</p>
      )}
      <Trouble error={error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Keep it</Button>
        <Button main disabled={moves && !target} onClick={() => onGo(moves ? Number(to) : null)}>
          {moves && target
            ? `Withdraw it, and move ${plural(plan.subscriptions, "subscription")} to ${target.name}`
            : "Withdraw it"}
        </Button>
      </div>
    </Dialog>
  );
}
