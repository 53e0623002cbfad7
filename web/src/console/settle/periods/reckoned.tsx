import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api } from "../../../api/console";
import { useStale } from "../../../api/queries/asking";
import { STALE } from "../../../api/queries/settle";
import { Trouble, WordButton } from "../../../kit/controls";
import { dayAndMinute } from "../../../kit/format";

const SOON = 1_500;
/** For so long it is looked whether newer ones are there: no worker may be there to reckon. */
const PATIENCE = 300_000;

/** Of when those charges are that stand on no invoice yet, and the way to newer ones. */
export function Reckoned({ start, at }: { start: string; at: string }) {
  const stale = useStale();
  const [from, setFrom] = useState("");
  const [tired, setTired] = useState(false);
  const ask = useMutation({
    mutationFn: () => api.post("/periods/{start}/reckoning", { params: { path: { start } } }),
    onSuccess: () => {
      setFrom(at);
      setTired(false);
    },
  });
  const waiting = from === at && !tired;
  useEffect(() => {
    if (!waiting) return;
    const looking = setInterval(() => void stale(STALE.reckoned), SOON);
    const ending = setTimeout(() => setTired(true), PATIENCE);
    return () => {
      clearInterval(looking);
      clearTimeout(ending);
    };
  }, [waiting, stale]);
  return (
    <div className="mt-3 text-soft">
      <p role="status">
        What is on no invoice yet is what was recorded by {dayAndMinute(at)}.{" "}
        {from === at && tired && "Nothing has reckoned it yet: "}
        {waiting ? "Reckoning it anew." : <WordButton onClick={() => ask.mutate()}>reckon it now</WordButton>}
      </p>
      <Trouble error={ask.error} />
    </div>
  );
}
