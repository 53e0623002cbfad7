import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { useStale } from "../../api/queries/asking";
import { issuers, STALE } from "../../api/queries/compose";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Choice, Choices, Line, Tick } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
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
  const entry = useEntry({
    start: issuer ? (issuer as unknown as Typed) : EMPTY,
    send: (body) =>
      issuer
        ? api.put("/issuers/{issuer_id}", {
            params: { path: { issuer_id: issuer.id }, header: { "if-match": `"${issuer.edition}"` } },
            body,
          })
        : api.post("/issuers", { body }),
    done: onDone,
  });
  return (
    <Dialog wide open onClose={onClose} title={issuer ? issuer.name : "Trust an issuer"}>
      <Form of={entry}>
        <div className="grid grid-cols-2 gap-x-6">
          <Line name="name" label="Name" required />
          <Line name="issuer" label="Issuer, as tokens say it (iss)" required />
          <Line name="jwks_url" label="Where its keys are" required />
          <Line name="audience" label="Audience its tokens must be for (aud)" required />
          <Line name="claim" label="Claim with the application's client id" required />
          <Choice
            name="environment"
            label="Its tokens call"
            choices={[
              ["live", "live"],
              ["sandbox", "the sandbox"],
            ]}
          />
        </div>
        <Choices
          name="algorithms"
          label="They may be signed by"
          choices={ALGORITHMS.map((name) => [name, name] as const)}
          none="Choose at least one."
        />
        <Tick name="trusted" className="py-1">
          It is trusted now
        </Tick>
        <Ends onLeave={onClose}>
          <Send>Save</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
