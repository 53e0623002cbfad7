import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { api, type Console } from "../../api/console";
import { Problem } from "../../api/problem";
import { makeStale, showAnswer } from "../../api/queries/asking";
import { sheet as ofSheet, STALE } from "../../api/queries/compose";
import { withChange } from "../../kit/terms";

export type Sheet = Console["Sheet"];
export type Terms = Record<string, unknown>;
type Step = { plan: number; before: Terms; after: Terms };

/** A sheet being worked on: drafts save themselves one after the other, and can be undone. */
export function useSheet(id: number) {
  const queries = useQueryClient();
  const query = useQuery(ofSheet(id));
  const [past, setPast] = useState<Step[]>([]);
  const [future, setFuture] = useState<Step[]>([]);
  const show = useCallback(
    async (next: Sheet) => {
      await showAnswer(queries, ofSheet(id), next);
      makeStale(queries, STALE.terms);
    },
    [queries, id],
  );
  const current = useCallback(
    (plan: number) => queries.getQueryData<Sheet>(ofSheet(id).queryKey)?.plans.find((p) => p.id === plan),
    [queries, id],
  );
  // What undoing starts from: the terms as this page left them, and not as somebody else has since.
  const left = useRef(new Map<number, number>());
  const save = useMutation({
    mutationFn: async ({ plan, terms, edition }: { plan: number; terms: Terms; edition?: number }) => {
      const from = edition ?? current(plan)?.edition ?? 0;
      return api.put("/plans/{plan_id}/draft", {
        params: { path: { plan_id: plan }, header: { "if-match": `"${from}"` } },
        body: { terms },
      });
    },
    onSuccess: (next, { plan }) => {
      left.current.set(plan, next.plans.find((p) => p.id === plan)?.edition ?? 0);
      return show(next); // the next change starts from it
    },
  });
  // Changes are kept one after the other, each on the terms as the one before left them.
  const queue = useRef(Promise.resolve());
  const rework = (plan: number, make: (before: Terms) => Terms) => {
    queue.current = queue.current.then(async () => {
      const before = current(plan)?.terms;
      if (!before) return;
      const after = make(before);
      try {
        await save.mutateAsync({ plan, terms: after });
        setPast((steps) => [...steps, { plan, before, after }]);
        setFuture([]);
      } catch {
        // What went wrong stands above the sheet; the next change starts from what is kept.
      }
    });
  };
  const change = (plan: number, path: string, value: unknown) =>
    rework(plan, (before) => withChange(before, path, value));
  const undo = () => {
    const step = past.at(-1);
    if (!step) return;
    const onSuccess = () => {
      setPast(past.slice(0, -1));
      setFuture([...future, step]);
    };
    save.mutate({ plan: step.plan, terms: step.before, edition: left.current.get(step.plan) }, { onSuccess });
  };
  const redo = () => {
    const step = future.at(-1);
    if (!step) return;
    const onSuccess = () => {
      setFuture(future.slice(0, -1));
      setPast([...past, step]);
    };
    save.mutate({ plan: step.plan, terms: step.after, edition: left.current.get(step.plan) }, { onSuccess });
  };
  useUndoKeys(undo, redo);
  const forget = () => {
    setPast([]);
    setFuture([]);
  };
  const stale =
    save.error instanceof Problem && save.error.status === 412 ? (save.error.current as Sheet) : null;
  return { query, sheet: query.data, save, stale, show, change, rework, undo, redo, past, future, forget };
}

function useUndoKeys(undo: () => void, redo: () => void) {
  const latest = useRef({ undo, redo });
  latest.current = { undo, redo };
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      const typing = (event.target as HTMLElement).matches?.("input, textarea, select");
      if (!(event.ctrlKey || event.metaKey) || typing) return;
      if (event.key === "z" && !event.shiftKey) {
        event.preventDefault();
        latest.current.undo();
      }
      if (event.key === "y" || (event.key === "z" && event.shiftKey)) {
        event.preventDefault();
        latest.current.redo();
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
}
