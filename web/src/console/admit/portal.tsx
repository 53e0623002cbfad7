import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, type Console } from "../../api/console";
import { Problem } from "../../api/problem";
import { fonts, groups, portal as onePortal, STALE } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { productsToChoose } from "../../api/queries/compose";
import { Dialog, Note, Refusal, Trouble, Waiting, WordButton } from "../../kit/controls";
import { Choice, Choices, Line, Own } from "../../kit/fields";
import { Ends, Form, Refused, Send, useEntry, useField, useTyped } from "../../kit/form";
import { plural } from "../../kit/format";
import { Sentence } from "../../kit/sentence";
import { Page } from "../frame";
import { useOpened } from "../lately";
import { Markdown } from "../markdown";
import { Invitations } from "./invitations";
import { ColourFields } from "./portal-colours";
import { FurtherPages } from "./portal-pages";
import { Pictures } from "./portal-pictures";
import { Preview } from "./portal-preview";
import { OwnSite, SignInThrough } from "./portal-sign-in";
import { type Typed, typedOf } from "./portal-typed";

type View = Console["PortalView"];

const SIGN_UP: [View["entrance"]["sign_up"], string][] = [
  ["anyone", "Anyone"],
  ["mail domains", "Whoever has an address of these domains"],
  ["by invitation", "Whoever is invited"],
  ["nobody", "Nobody"],
];

/** One portal: how it looks, what it offers, and who comes in, with the portal itself beside it. */
export function PortalPage() {
  const { id } = useParams();
  const one = useQuery(onePortal(Number(id)));
  useOpened(one.data?.brand.name);
  if (!one.data)
    return (
      <Page title="Portal">
        {one.error ? <Trouble error={one.error} /> : <Waiting words="Reading the portal" />}
      </Page>
    );
  return <Edit key={id} view={one.data} />;
}

function Edit({ view }: { view: View }) {
  const stale = useStale();
  const [edition, setEdition] = useState(view.edition);
  const entry = useEntry<Typed, View>({
    start: typedOf(view),
    send: ({ mail_domains, ...typed }) =>
      api.put("/portals/{portal_id}", {
        params: { path: { portal_id: view.id }, header: { "if-match": `"${edition}"` } },
        body: { ...typed, mail_domains: mail_domains.split(/[\s,;]+/).filter(Boolean) },
      }),
    done: async (saved) => {
      setEdition(saved.edition);
      entry.form.reset(typedOf(saved));
      await stale(STALE.portal);
    },
  });
  const { error } = entry;
  const other = error instanceof Problem && error.status === 412 ? (error.current as View) : null;
  const changed = entry.form.formState.isDirty;
  return (
    <Page
      title={view.brand.name}
      sub={
        <>
          At{" "}
          <a className="figure-link" href={`${view.path}/`}>
            {view.address}
          </a>
          ; {plural(view.consumers, "organisation")} came by it.
        </>
      }
    >
      <div className="mt-4 grid gap-x-8 xl:grid-cols-[400px_1fr]">
        <div>
          <Form of={entry}>
            <Head>Look</Head>
            <Line name="name" label="Name" required />
            <ColourFields />
            <Fonts />
            <Markdown name="welcome" label="What it says first" value={entry.form.watch("welcome")} />
            <Head>Offer</Head>
            <Offer />
            <Head>Who comes in</Head>
            <Entrance />
            <Head>Further pages</Head>
            <FurtherPages />
            <Head>Address</Head>
            <Line
              name="host"
              label={`Host name of its own, beside ${view.path}`}
              hint="Such as data.example.org, once that name leads to this installation; empty for none."
            />
            <div className="sticky -bottom-10 -mx-1 mt-4 border-t border-line bg-sheet px-1 py-3">
              {other && (
                <Note>
                  Somebody else saved this portal meanwhile. Yours is above.{" "}
                  <WordButton
                    onClick={() => {
                      setEdition(other.edition);
                      entry.form.reset(typedOf(other));
                      entry.again();
                    }}
                  >
                    Take theirs
                  </WordButton>{" "}
                  or{" "}
                  <WordButton
                    onClick={() => {
                      setEdition(other.edition);
                      entry.again();
                    }}
                  >
                    go on with yours
                  </WordButton>
                  .
                </Note>
              )}
              {!other && <Refused />}
              <div className="flex items-center gap-3">
                <Send disabled={!changed}>Keep it so</Send>
                <span className="text-[13px] text-soft" role="status">
                  {changed
                    ? "Not kept yet; visitors see what was kept last."
                    : "Kept: this is what visitors see."}
                </span>
              </div>
            </div>
          </Form>
          <Head>Pictures</Head>
          <Pictures view={view} />
          <Head>Sign-in</Head>
          <SignInThrough portal={view} />
          <Head>Your own site</Head>
          <OwnSite portal={view} />
          <Head>Invitations</Head>
          <Invitations portal={view} />
          {!view.first && <Remove view={view} />}
        </div>
        <Preview view={view} typed={entry.form.watch()} />
      </div>
    </Page>
  );
}

function Head({ children }: { children: React.ReactNode }) {
  return <h2 className="mt-5 mb-2 border-b border-line pb-1 first:mt-0">{children}</h2>;
}

function Fonts() {
  const shipped = useQuery(fonts());
  const choices = (shipped.data ?? []).map((font) => [font, font] as const);
  return (
    <div className="grid grid-cols-2 gap-x-4">
      <Choice name="title_font" label="Titles are set in" choices={choices} />
      <Choice name="text_font" label="All else in" choices={choices} />
    </div>
  );
}

function Offer() {
  const { everything } = useTyped<Typed>();
  const products = useQuery(productsToChoose());
  const all = useQuery(groups());
  return (
    <>
      <Own<boolean> name="everything">
        {({ value, onChange }) => (
          <p className="mb-2">
            <Sentence
              parts={[
                said("It offers "),
                word("everything", value ? "everything on sale" : "these products", String(value), [
                  ["true", "everything on sale"],
                  ["false", "these products"],
                ]),
                said(value ? "." : ":"),
              ]}
              onChange={(_, chosen) => onChange(chosen === "true")}
            />
          </p>
        )}
      </Own>
      {!everything && (
        <Choices
          name="products"
          label="Products it offers"
          choices={(products.data?.rows ?? []).map((p) => [p.id, p.name] as const)}
          none="It offers nothing yet."
        />
      )}
      <Choices
        name="groups"
        label="Only organisations of these groups, and those who signed up here, may sign in"
        choices={(all.data ?? []).map((g) => [g.id, g.name] as const)}
        none="With no group chosen, every organisation may."
      />
    </>
  );
}

function Entrance() {
  const { sign_up, at_once } = useTyped<Typed>();
  const rule = useField<Typed["sign_up"]>("sign_up");
  const once = useField<boolean>("at_once");
  const who = SIGN_UP.find(([one]) => one === sign_up)?.[1] ?? "";
  const comes = sign_up !== "nobody";
  return (
    <>
      <p className="mb-2">
        <Sentence
          parts={[
            word("sign_up", who, sign_up, SIGN_UP),
            said(comes ? " may sign up; a new organisation is let in " : " may sign up."),
            ...(comes
              ? [
                  word("at_once", at_once ? "at once" : "after a person says so", String(at_once), [
                    ["true", "at once"],
                    ["false", "after a person says so"],
                  ]),
                  said("."),
                ]
              : []),
          ]}
          onChange={(field, chosen) =>
            field === "sign_up" ? rule.onChange(chosen as Typed["sign_up"]) : once.onChange(chosen === "true")
          }
        />
      </p>
      {rule.error && <Refusal>{rule.error}</Refusal>}
      {sign_up === "mail domains" && (
        <Line
          name="mail_domains"
          label="Domains of mail addresses"
          area
          hint="One on each line, such as ferries.example"
        />
      )}
    </>
  );
}

const said = (text: string) => ({ text, field: "", input: "", value: "", choices: [] });
const word = (field: string, text: string, value: string, choices: [string, string][]) => ({
  text,
  field,
  input: "choice",
  value,
  choices,
});

function Remove({ view }: { view: View }) {
  const [asked, setAsked] = useState(false);
  const stale = useStale();
  const navigate = useNavigate();
  const entry = useEntry({
    start: {},
    send: () => api.delete("/portals/{portal_id}", { params: { path: { portal_id: view.id } } }),
    done: async () => {
      navigate("/admit/portals");
      await stale(STALE.portal);
    },
  });
  return (
    <>
      <p className="mt-6">
        <WordButton onClick={() => setAsked(true)}>Take this portal away…</WordButton>
      </p>
      {asked && (
        <Dialog open onClose={() => setAsked(false)} title={`Take ${view.brand.name} away?`}>
          <Form of={entry}>
            <p>
              Nothing is found at {view.path} any more, and its look, pages and invitations are gone.{" "}
              {view.consumers === 0
                ? "No organisation came by it."
                : `${plural(view.consumers, "organisation")} came by it; each keeps its account, and signs in at the first portal.`}
            </p>
            <Ends onLeave={() => setAsked(false)}>
              <Send>Take it away</Send>
            </Ends>
          </Form>
        </Dialog>
      )}
    </>
  );
}
