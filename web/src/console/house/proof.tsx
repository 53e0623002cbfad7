import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../../api/console";
import { Button, Field, Trouble } from "../../kit/controls";
import { count } from "../../kit/format";
import { Aside } from "../frame";

/** Whether the chain that the entries form is whole. */
export function Proof() {
  const [kept, setKept] = useState("");
  const proof = useMutation({
    mutationFn: () => api.get("/record/proof", { params: { query: { kept } } }),
  });
  const of = proof.data;
  return (
    <Aside title="Whether it is whole">
      <p>
        Each entry holds a digest of itself and of the one before, so that one that was changed, put in or
        taken out is found. Keep the last entry’s elsewhere, and compare it later.
      </p>
      <div className="mt-2">
        <Field label="A digest that you kept" value={kept} onChange={setKept} spellCheck={false} />
      </div>
      <Button small disabled={proof.isPending} onClick={() => proof.mutate()}>
        {proof.isPending ? "Looking through it" : "Look through it"}
      </Button>
      <Trouble error={proof.error} />
      {of && (
        <div role="status" className="mt-2">
          {of.wrong ? (
            <p className="text-madder">It is not whole: {of.wrong}.</p>
          ) : (
            <p>
              It is whole: {count(of.entries)} entries
              {of.erased > 0 && `, ${count(of.erased)} of them without their words`}.
            </p>
          )}
          <p className="mt-1 text-soft">The last entry that holds:</p>
          <code className="block text-[11px] break-all">
            {of.number}:{of.digest}
          </code>
        </div>
      )}
    </Aside>
  );
}
