import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { issuers, STALE } from "../../api/queries/compose";
import { Choose, Several } from "../../kit/choose";
import { Button, Dialog, Field, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Aside, Page } from "../frame";

type Issuer = Console["IssuerView"];
type Typed = Console["IssuerIn"];

const ALGORITHMS = ["RS256", "ES256", "PS256", "EdDSA", "RS512", "ES512"] as const;
const EMPTY: Typed = {
  name: "",
  issuer: "",
  jwks_url: "",
  audience: "",
  algorithms: ["RS256", "ES256"],
  claim: "sub",
  environment: "live",
  trusted: true,
};

/** The outside issuers whose signed tokens are credentials. */
export function Issuers() {
  const stale = useStale();
  const list = useQuery(issuers());
  const [edited, setEdited] = useState<Issuer | "new" | null>(null);
  return (
    <Page
      title="Trusted issuers"
      sub="Where a product takes signed tokens, these may have signed them."
      margin={
        <Aside title="How a token is checked">
          <p>
            Its signature, by the issuer's published keys, fetched when needed and asked for again after a
            minute at most; its algorithm, audience and times. One claim must hold the client id of an
            application registered here. Whether a product takes such tokens is said on its tariff sheet.
          </p>
        </Aside>
      }
    >
      <div className="my-4 text-right">
        <Button onClick={() => setEdited("new")}>Trust an issuer</Button>
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the issuers" />}
      {list.data?.length === 0 && (
        <p className="text-soft">
          None is trusted yet. Consumers then show keys, secrets or tokens made here.
        </p>
      )}
      {list.data?.map((issuer) => (
        <section key={issuer.id} className="border-b border-line-soft py-3">
          <WordButton className="text-[14px]!" onClick={() => setEdited(issuer)}>
            {issuer.name}
          </WordButton>{" "}
          {!issuer.trusted && <b className="font-semibold text-madder">not trusted now</b>}
          <p className="text-soft">
            Tokens of {issuer.issuer} for {issuer.audience}, signed by {issuer.algorithms.join(" or ")}, name
            the application in {issuer.claim} and call{" "}
            {issuer.environment === "live" ? "live" : "the sandbox"}. Keys from {issuer.jwks_url}
          </p>
        </section>
      ))}
      {edited && (
        <Edit
          issuer={edited === "new" ? null : edited}
          onClose={() => setEdited(null)}
          onDone={() => {
            setEdited(null);
            stale(STALE.issuer);
          }}
        />
      )}
    </Page>
  );
}

function Edit({
  issuer,
  onClose,
  onDone,
}: {
  issuer: Issuer | null;
  onClose: () => void;
  onDone: () => void;
}) {
  const [typed, setTyped] = useState<Typed>(issuer ? (issuer as unknown as Typed) : EMPTY);
  const set = (part: Partial<Typed>) => setTyped({ ...typed, ...part });
  const save = useMutation({
    mutationFn: () =>
      issuer
        ? api.put("/issuers/{issuer_id}", {
            params: { path: { issuer_id: issuer.id }, header: { "if-match": `"${issuer.edition}"` } },
            body: typed,
          })
        : api.post("/issuers", { body: typed }),
    onSuccess: onDone,
  });
  return (
    <Dialog wide open onClose={onClose} title={issuer ? issuer.name : "Trust an issuer"}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <div className="grid grid-cols-2 gap-x-6">
          <Field label="Name" required value={typed.name} onChange={(name) => set({ name })} />
          <Field
            label="Issuer, as tokens say it (iss)"
            required
            value={typed.issuer}
            onChange={(value) => set({ issuer: value })}
          />
          <Field
            label="Where its keys are"
            required
            value={typed.jwks_url}
            onChange={(jwks_url) => set({ jwks_url })}
          />
          <Field
            label="Audience its tokens must be for (aud)"
            required
            value={typed.audience}
            onChange={(audience) => set({ audience })}
          />
          <Field
            label="Claim with the application's client id"
            required
            value={typed.claim}
            onChange={(claim) => set({ claim })}
          />
          <Choose
            label="Its tokens call"
            value={typed.environment}
            choices={[
              ["live", "live"],
              ["sandbox", "the sandbox"],
            ]}
            onChange={(environment) => set({ environment })}
          />
        </div>
        <Several
          label="They may be signed by"
          chosen={typed.algorithms}
          choices={ALGORITHMS.map((name) => [name, name] as const)}
          none="Choose at least one."
          onChange={(algorithms) => set({ algorithms })}
        />
        <label className="flex items-baseline gap-2 py-1">
          <input
            type="checkbox"
            className="accent-(--color-kelp)"
            checked={typed.trusted}
            onChange={(e) => set({ trusted: e.target.checked })}
          />
          It is trusted now
        </label>
        <Trouble error={save.error} />
        <div className="mt-3 flex justify-end gap-2">
          <Button onClick={onClose}>Leave it</Button>
          <Button main type="submit" disabled={save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
