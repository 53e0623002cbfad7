import { useMutation, useQuery } from "@tanstack/react-query";
import { api, type Console } from "../../api/console";
import { me } from "../../api/queries/house";
import { Trouble, WordButton } from "../../kit/controls";
import { isOne } from "../roles";

/** The way to the portal as this consumer sees it, in a window of its own. */
export function LookAs({ of: c }: { of: Console["ConsumerView"] }) {
  const roles = useQuery(me()).data?.roles;
  const ask = useMutation({
    mutationFn: () =>
      api.post("/consumers/{consumer_id}/looking", { params: { path: { consumer_id: c.line.id } } }),
    onSuccess: ({ address }) => window.open(address, "_blank") !== null,
  });
  if (c.members.length === 0 || !isOne(roles, ["product manager", "reviewer", "operations", "finance"]))
    return null;
  return (
    <span>
      <WordButton disabled={ask.isPending} onClick={() => ask.mutate()}>
        see the portal as it does
      </WordButton>
      {ask.data && (
        <span className="text-[13px] text-soft">
          {" "}
          in another window; where none came,{" "}
          <a className="figure-link" href={ask.data.address} target="_blank" rel="noreferrer">
            open it here
          </a>{" "}
          within two minutes
        </span>
      )}
      <Trouble error={ask.error} />
    </span>
  );
}
