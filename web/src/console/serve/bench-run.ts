import { useRef, useState } from "react";
import type { Console } from "../../api/console";
import { refused } from "../../api/problem";

export type Wanted = Console["RunIn"];
export type Fired = Console["BenchCall"];
export type Begun = {
  title: string;
  operation: string;
  calls: number;
  limits: Console["LimitOnBench"][];
  case: { calls: unknown[] } & Record<string, unknown>;
};
export type Run = { number: number; wanted: Wanted; begun: Begun; calls: Fired[]; running: boolean };

/** Firing runs at the bench: each answers a line of JSON for every call as it is done. */
export function useRuns() {
  const [runs, setRuns] = useState<Run[]>([]);
  const [error, setError] = useState<unknown>(null);
  const stopping = useRef<AbortController | null>(null);
  const numbers = useRef(0);

  async function fire(wanted: Wanted) {
    stopping.current?.abort();
    const stop = new AbortController();
    stopping.current = stop;
    setError(null);
    numbers.current += 1;
    const number = numbers.current;
    const change = (part: (run: Run) => Partial<Run>) =>
      setRuns((all) => all.map((run) => (run.number === number ? { ...run, ...part(run) } : run)));
    try {
      const answer = await fetch("/api/v1/bench/runs", {
        method: "POST",
        headers: { "content-type": "application/json" },
        body: JSON.stringify(wanted),
        signal: stop.signal,
      });
      if (!answer.ok || !answer.body) throw await refused(answer);
      let waiting: Fired[] = [];
      for await (const line of lines(answer.body)) {
        const said = JSON.parse(line);
        if ("limits" in said)
          setRuns((all) => [{ number, wanted, begun: said, calls: [], running: true }, ...all].slice(0, 4));
        else if ("n" in said) {
          waiting.push(said);
          const now = waiting;
          waiting = [];
          change((run) => ({ calls: [...run.calls, ...now] }));
        }
      }
    } catch (failure) {
      if (!stop.signal.aborted) setError(failure);
    } finally {
      change(() => ({ running: false }));
    }
  }
  return { runs, error, fire, stop: () => stopping.current?.abort() };
}

async function* lines(body: ReadableStream<Uint8Array>) {
  const reader = body
    .pipeThrough(new TextDecoderStream() as ReadableWritablePair<string, Uint8Array>)
    .getReader();
  let rest = "";
  for (;;) {
    const { value, done } = await reader.read();
    if (done) return;
    const parts = (rest + value).split("\n");
    rest = parts.pop() ?? "";
    yield* parts;
  }
}

/** A run as a file for `./calm decide`: the limits and each call with its instant. */
export function asCase(run: Run): string {
  const calls = [...run.calls]
    .sort((a, b) => a.at_us - b.at_us || a.n - b.n)
    .map((call) => ({
      at_us: call.at_us,
      key: `test key ${call.key}`,
      application: "bench",
      consumer: "bench",
      subscription: "bench",
      operation: String(run.wanted.operation_id),
    }));
  return JSON.stringify({ ...run.begun.case, calls }, null, 1);
}
