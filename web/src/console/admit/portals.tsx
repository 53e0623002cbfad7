import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { portals, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { Button, Dialog, Trouble, Waiting } from "../../kit/controls";
import { Line } from "../../kit/fields";
import { Ends, Form, Send, useEntry } from "../../kit/form";
import { count, listed, plural } from "../../kit/format";
import { Page } from "../frame";

type Portal = Console["PortalView"];

const COMES: Record<Portal["entrance"]["sign_up"], string> = {
  anyone: "Anyone",
  "mail domains": "Whoever has an address of certain domains",
  "by invitation": "Whoever is invited",
  nobody: "Nobody",
};

/** Where developers find what is sold: one portal, or several for several kinds of them. */
export function Portals() {
  const list = useQuery(portals());
  const [making, setMaking] = useState(false);
  return (
    <Page
      title="Portals"
      sub="Where developers find what is sold. Each portal has a look, an offer and a door of its own."
    >
      <div className="my-4 text-right">
        <Button onClick={() => setMaking(true)}>Make another portal</Button>
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting words="Reading the portals" />}
      {list.data?.map((p) => (
        <One key={p.id} of={p} />
      ))}
      {making && <Make onClose={() => setMaking(false)} />}
    </Page>
  );
}

/** A portal in sentences, beside a small picture of what visitors see now. */
function One({ of }: { of: Portal }) {
  const { sign_up, domains, at_once } = of.entrance;
  return (
    <section aria-label={of.brand.name} className="flex gap-6 border-t border-line py-4">
      <Small of={of} />
      <div className="max-w-[60ch] flex-1">
        <h2 className="text-[19px]">
          <Link className="figure-link" to={`/admit/portals/${of.id}`}>
            {of.brand.name}
          </Link>
        </h2>
        <p className="mt-1 text-soft">
          At{" "}
          <a className="figure-link" href={`${of.path}/`}>
            {of.host || of.path}
          </a>
          {of.pages.length > 0 && `, with ${listed(of.pages.map((page) => `“${page.title}”`))}`}
        </p>
        <p className="mt-2">
          Offers {of.everything ? "everything on sale" : of.products.join(", ") || "nothing yet"}
          {of.groups.length > 0 && ` to organisations of ${listed(of.groups)}`}.
        </p>
        <p>
          {COMES[sign_up]} may sign up{sign_up === "mail domains" && ` (${domains.join(", ")})`}
          {sign_up !== "nobody" &&
            `; a new organisation is let in ${at_once ? "at once" : "after a person says so"}`}
          .
        </p>
        <p className="mt-2 text-soft">
          {plural(of.consumers, "organisation")} came by it
          {of.waiting > 0 && (
            <>
              ,{" "}
              <Link className="figure-link" to="/admit/consumers?sort=state">
                {of.waiting === 1 ? "one waits" : `${count(of.waiting)} wait`} to be let in
              </Link>
            </>
          )}
          .
        </p>
      </div>
    </section>
  );
}

/** What visitors see first, too small to be used. */
function Small({ of }: { of: Portal }) {
  return (
    <div aria-hidden inert className="h-[190px] w-[304px] shrink-0 overflow-hidden border border-line">
      <iframe
        title={of.brand.name}
        src={`${of.path}/`}
        loading="lazy"
        tabIndex={-1}
        className="pointer-events-none h-[800px] w-[1280px] origin-top-left scale-[0.2375] bg-white"
      />
    </div>
  );
}

function Make({ onClose }: { onClose: () => void }) {
  const stale = useStale();
  const navigate = useNavigate();
  const entry = useEntry({
    start: { name: "", prefix: "" },
    send: (body) => api.post("/portals", { body }),
    done: async (made) => {
      await stale(STALE.portal);
      navigate(`/admit/portals/${made.id}`);
    },
  });
  return (
    <Dialog open onClose={onClose} title="Another portal">
      <Form of={entry}>
        <Line name="name" label="Name" required autoFocus />
        <Line
          name="prefix"
          label="It will be at /portals/…"
          required
          hint="Small letters, digits and hyphens. A host name of its own can be given to it later."
        />
        <p className="text-soft">
          It offers nothing at first, and nobody can sign up there: both are said on its page.
        </p>
        <Ends onLeave={onClose}>
          <Send>Make it</Send>
        </Ends>
      </Form>
    </Dialog>
  );
}
