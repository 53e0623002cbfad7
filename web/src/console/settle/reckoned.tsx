import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/settle";
import { Trouble, WordButton } from "../../kit/controls";
import { dayAndMinute } from "../../kit/format";

const SOON = 1_500;

/** Of when those charges are that stand on no invoice yet, and the way to newer ones. */
export function Reckoned({ start, at }: { start: string; at: string }) {
  const stale = useStale();
  const [from, setFrom] = useState("");
  const ask = useMutation({
    mutationFn: () => api.post("/periods/{start}/reckoning", { params: { path: { start } } }),
    onSuccess: () => setFrom(at),
  });
  const waiting = from === at;
  useEffect(() => {
    if (!waiting) return;
    const looking = setInterval(() => void stale(STALE.reckoned), SOON);
    return () => clearInterval(looking);
  }, [waiting, stale]);
  return (
    <div className="mt-3 text-soft">
      <p role="status">
        What is on no invoice yet is what was recorded by {dayAndMinute(at)}.{" "}
        {waiting ? "Reckoning it anew." : <WordButton onClick={() => ask.mutate()}>reckon it now</WordButton>}
      </p>
      <Trouble error={ask.error} />
    </div>
  );
}
