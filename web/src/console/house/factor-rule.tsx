import { useMutation } from "@tanstack/react-query";
import { api } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/house";
import { Trouble, WordButton } from "../../kit/controls";

/** Whether everybody shows a second factor at the sign-in; an owner of the house says so. */
export function FactorRule({ required, owner }: { required: boolean; owner: boolean }) {
  const stale = useStale();
  const set = useMutation({
    mutationFn: () => api.put("/house/second-factor", { body: { required: !required } }),
    onSuccess: () => stale(STALE.factorRule),
  });
  return (
    <>
      <p>
        {required
          ? "Everybody shows a code besides the password. Whoever has no second factor sets one up before anything else."
          : "Each decides whether a code is asked for besides the password."}
      </p>
      {owner && (
        <WordButton className="mt-1" disabled={set.isPending} onClick={() => set.mutate()}>
          {required ? "leave it to each" : "ask it of everybody"}
        </WordButton>
      )}
      <Trouble error={set.error} />
    </>
  );
}
