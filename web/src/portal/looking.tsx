import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, type Portal } from "../api/portal";
import { entered, left } from "../api/queries/asking";
import { Trouble, Waiting } from "../kit/controls";
import { letterToken } from "../kit/signing-in";

/** Where one of the provider's people begins to look as a consumer does, by an address that is good once. */
export function Look() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [token] = useState(letterToken);
  const begin = useMutation({
    mutationFn: () => api.post("/looking", { body: { token } }),
    onSuccess: async () => {
      await entered(queries);
      navigate("/applications", { replace: true });
    },
  });
  const { mutate, isIdle } = begin;
  useEffect(() => {
    if (isIdle) mutate();
  }, [isIdle, mutate]);
  return begin.error ? <Trouble error={begin.error} /> : <Waiting words="Opening it as they see it" />;
}

/** Says that this is only looked at, and by whom. */
export function Looked({ me }: { me: Portal["Member"] }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const stop = useMutation({
    mutationFn: () => api.delete("/looking"),
    onSuccess: async () => {
      navigate("/");
      await left(queries);
    },
  });
  return (
    <div role="status" className="bg-[#1E2B2A] px-6 py-2.5 text-[14px] text-white">
      <div className="mx-auto flex max-w-[1152px] flex-wrap gap-x-5">
        <span>
          {me.looking}, you look at this as {me.consumer} does, by the eyes of its owner {me.name}. Nothing
          can be changed, and that you looked is on the record.
        </span>
        <button
          type="button"
          className="underline decoration-white/40 underline-offset-4"
          disabled={stop.isPending}
          onClick={() => stop.mutate()}
        >
          Look no more
        </button>
        <Trouble error={stop.error} />
      </div>
    </div>
  );
}
