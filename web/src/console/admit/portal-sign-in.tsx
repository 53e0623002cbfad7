import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Console } from "../../api/console";
import { ownSite, portalSignIn, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Ends, Form, Refused, Send, useEntry } from "../../kit/form";

type View = Console["IdentityProviderView"];

/** Through which outside provider people sign in, besides by password. */
export function SignInThrough({ portal }: { portal: Console["PortalView"] }) {
  const stale = useStale();
  const query = useQuery(portalSignIn(portal.id));
  const [open, setOpen] = useState(false);
  const path = { portal_id: portal.id };
  const remove = useMutation({
    mutationFn: () => api.delete("/portals/{portal_id}/sign-in", { params: { path } }),
    onSuccess: () => stale(STALE.portalSignIn),
  });
  const view = query.data;
  if (!view) return query.error ? <Trouble error={query.error} /> : <Waiting words="Reading the sign-in" />;
  return (
    <>
      {view.name ? (
        <p>
          People sign in by password, or through {view.name} ({view.issuer}).{" "}
          <WordButton onClick={() => setOpen(true)}>change</WordButton> ·{" "}
          <WordButton disabled={remove.isPending} onClick={() => remove.mutate()}>
            no longer
          </WordButton>
        </p>
      ) : (
        <p>
          People sign in by password.{" "}
          <WordButton onClick={() => setOpen(true)}>through an outside provider, too</WordButton>
        </p>
      )}
      <Trouble error={remove.error} />
      {open && (
        <Change
          view={view}
          portal={portal.id}
          onClose={() => setOpen(false)}
          onDone={async () => {
            setOpen(false);
            await stale(STALE.portalSignIn);
          }}
        />
      )}
    </>
  );
}

function Change({
  view,
  portal,
  onClose,
  onDone,
}: {
  view: View;
  portal: number;
  onClose: () => void;
  onDone: () => unknown;
}) {
  const entry = useEntry({
    start: { name: view.name, issuer: view.issuer, client_id: view.client_id, client_secret: "" },
    send: (body) =>
      api.put("/portals/{portal_id}/sign-in", { params: { path: { portal_id: portal } }, body }),
    done: onDone,
  });
  return (
    <Dialog open onClose={onClose} title="Sign-in through an outside provider">
      <Form of={entry}>
        <p className="mb-3 text-[13.5px] text-soft">
          A provider of identities by OpenID Connect. Tell it to send people back to{" "}
          <code className="font-mono break-all">{view.back}</code>
        </p>
        <Line name="name" label="What people call it" required />
        <Line
          name="issuer"
          label="Its issuer"
          required
          hint="An https address, below which /.well-known/openid-configuration describes it."
        />
        <Line name="client_id" label="The portal’s client id there" required />
        <Line
          name="client_secret"
          label="And its secret"
          type="password"
          autoComplete="off"
          hint={view.name ? "Empty: the one that was kept stays." : "It is sealed, and shown to nobody."}
        />
        <Refused />
        <Ends onLeave={onClose}>
          <Send>Save</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}

/** Where accounts are made instead of here, and what documentation elsewhere may ask. */
export function OwnSite({ portal }: { portal: Console["PortalView"] }) {
  const query = useQuery(ownSite(portal.id));
  if (!query.data)
    return query.error ? (
      <Trouble error={query.error} />
    ) : (
      <Waiting words="Reading where accounts are made" />
    );
  return (
    <>
      <MadeAt key={query.data.sign_up_site} portal={portal.id} site={query.data.sign_up_site} />
      <Documentation portal={portal.id} documented={query.data.documented} />
    </>
  );
}

function MadeAt({ portal, site }: { portal: number; site: string }) {
  const stale = useStale();
  const entry = useEntry({
    start: { sign_up_site: site },
    send: (body) =>
      api.put("/portals/{portal_id}/own-site", { params: { path: { portal_id: portal } }, body }),
    done: () => stale(STALE.ownSite),
  });
  return (
    <Form of={entry}>
      <Line
        name="sign_up_site"
        label="Accounts are made at a page of your own"
        placeholder="at this portal; or https://…"
        hint="People come there with a signed statement, good for five minutes; your back end answers through the API."
      />
      <Refused />
      <Send disabled={!entry.form.formState.isDirty}>Save it</Send>
    </Form>
  );
}

function Documentation({ portal, documented }: { portal: number; documented: boolean }) {
  const stale = useStale();
  const [secret, setSecret] = useState("");
  const path = { portal_id: portal };
  const done = (made: string) => {
    setSecret(made);
    return stale(STALE.ownSite);
  };
  const make = useMutation({
    mutationFn: () => api.post("/portals/{portal_id}/documentation-secret", { params: { path } }),
    onSuccess: done,
  });
  const take = useMutation({
    mutationFn: () => api.delete("/portals/{portal_id}/documentation-secret", { params: { path } }),
    onSuccess: () => done(""),
  });
  return (
    <>
      <p className="mt-4">
        {documented ? "Your" : "No"} documentation elsewhere may ask which applications and keys somebody has.{" "}
        <WordButton disabled={make.isPending} onClick={() => make.mutate()}>
          {documented ? "make another secret" : "make a secret for it"}
        </WordButton>
        {documented && (
          <>
            {" "}
            ·{" "}
            <WordButton disabled={take.isPending} onClick={() => take.mutate()}>
              let it ask no longer
            </WordButton>
          </>
        )}
      </p>
      {secret && (
        <p role="status" className="mt-1">
          <code className="font-mono text-[13px] break-all">{secret}</code>
          <span className="block text-[13px] text-soft">
            Shown this once. What is asked is signed with it.
          </span>
        </p>
      )}
      <Trouble error={make.error ?? take.error} />
    </>
  );
}
