import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Console } from "../../api/console";
import { entered, left } from "../../api/queries/asking";
import { ownFactor } from "../../api/queries/house";
import { Button, WordButton } from "../../kit/controls";
import { SecondFactor } from "../../kit/second-factor";
import { FACTOR } from "./factor";

/** What somebody sees who is signed in, and must have a second factor before anything else. */
export function Stopped({ me }: { me: Console["Me"] }) {
  const queries = useQueryClient();
  const on = useQuery(ownFactor()).data?.on;
  const leave = async () => {
    await api.delete("/session");
    await left(queries);
  };
  return (
    <main className="mx-auto max-w-[820px] px-8 pt-[10vh] pb-10">
      <h1>{me.provider}</h1>
      <p className="mt-2 max-w-[60ch]">
        Everybody who works here shows a second factor at the sign-in, {me.name}. Turn yours on, keep the
        recovery codes, and go on.
      </p>
      <SecondFactor own={ownFactor()} {...FACTOR} />
      <div className="mt-6 flex items-baseline gap-4">
        {on && (
          <Button main onClick={() => entered(queries)}>
            Go on
          </Button>
        )}
        <WordButton onClick={leave}>sign out</WordButton>
      </div>
    </main>
  );
}
