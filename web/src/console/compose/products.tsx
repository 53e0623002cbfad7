import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { groups as ofGroups } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { markdown, STALE } from "../../api/queries/compose";
import { Choose, Several } from "../../kit/choose";
import { Button, Field, Trouble, WordButton } from "../../kit/controls";
import { Prose } from "../../kit/prose";
import { Page } from "../frame";
import { ListPage, useList } from "../list";
import { ChooseOperations } from "./operations";

type Typed = Console["ProductIn"];

export function Products() {
  const navigate = useNavigate();
  const list = useList("/products", (query) => api.get("/products", { params: { query } }));
  return (
    <ListPage
      title="Products"
      sub="Operations bundled for sale; each has one tariff sheet."
      list={list}
      reading="Reading the products"
      empty="Products belong here: what is sold together, under which terms. Make the first one."
      address={(p) => `/compose/products/${p.id}`}
      actions={
        <Button main onClick={() => navigate("/compose/products/new")}>
          Make a new product
        </Button>
      }
      columns={[
        { head: "Product", cell: (p) => p.name, sort: "name" },
        { head: "APIs", cell: (p) => p.apis.join(", ") },
        { head: "Access", cell: (p) => p.access_route, sort: "access" },
        { head: "Seen by", cell: (p) => p.groups.join(", ") || "everybody" },
        { head: "Plans", cell: (p) => p.plans.join(", ") || "none yet" },
        { head: "Subscriptions", cell: (p) => p.subscriptions, sort: "subscriptions", number: true },
      ]}
    />
  );
}

const EMPTY: Typed = {
  name: "",
  description: "",
  contact: "",
  terms_of_use: "",
  access_route: "reviewed",
  groups: [],
  operations: [],
  moves_anew: false,
};

export function NewProduct() {
  const navigate = useNavigate();
  const stale = useStale();
  const create = useMutation({
    mutationFn: (typed: Typed) => api.post("/products", { body: typed }),
    onSuccess: async (made) => {
      await stale(STALE.product);
      navigate(`/compose/products/${made.id}`, { replace: true });
    },
  });
  return (
    <Page title="A new product" sub="Afterwards its plans are laid out on the tariff sheet.">
      <ProductForm
        start={EMPTY}
        verb="Make it"
        saving={create.isPending}
        error={create.error}
        onSave={(typed) => create.mutate(typed)}
      />
    </Page>
  );
}

const ROUTES = [
  ["reviewed", "reviewed: a person decides on each request"],
  ["reviewed twice", "reviewed twice: two different people must agree"],
  ["outside", "outside: the ticket desk decides"],
  ["open", "open: granted at once"],
] as const;

const MOVES = [
  ["on", "allowances go on with what is used of them"],
  ["anew", "allowances start anew"],
] as const;

type FormProps = {
  start: Typed;
  verb: string;
  saving: boolean;
  error: unknown;
  onSave: (typed: Typed) => void;
};

export function ProductForm({ start, verb, saving, error, onSave }: FormProps) {
  const [typed, setTyped] = useState(start);
  const set = (part: Partial<Typed>) => setTyped({ ...typed, ...part });
  const groups = useQuery(ofGroups());
  return (
    <form
      className="mt-5 max-w-[660px]"
      onSubmit={(e) => {
        e.preventDefault();
        onSave(typed);
      }}
    >
      <Field label="Name" required value={typed.name} onChange={(name) => set({ name })} />
      <Markdown
        label="What it is, for the portal"
        value={typed.description}
        onChange={(description) => set({ description })}
      />
      <Markdown label="Whom to ask" value={typed.contact} onChange={(contact) => set({ contact })} />
      <Markdown
        label="Terms of use a subscriber must accept"
        value={typed.terms_of_use}
        onChange={(terms_of_use) => set({ terms_of_use })}
      />
      {start.terms_of_use !== "" && typed.terms_of_use !== start.terms_of_use && (
        <p className="-mt-2 mb-3 text-[13px] text-brass">
          This becomes a new version. Every subscriber is told by mail and asked to accept it.
        </p>
      )}
      <Choose
        label="Access is"
        value={typed.access_route}
        choices={ROUTES}
        onChange={(access_route) => set({ access_route })}
      />
      <Choose
        label="Over a move to another plan"
        value={typed.moves_anew ? "anew" : "on"}
        choices={MOVES}
        onChange={(chosen) => set({ moves_anew: chosen === "anew" })}
      />
      <Several
        label="Seen by consumers of"
        chosen={typed.groups}
        choices={(groups.data ?? []).map((g) => [g.id, g.name] as const)}
        none="With no group chosen, everybody sees it. Others could not even name it."
        onChange={(chosen) => set({ groups: chosen })}
      />
      <h2 className="mb-1">It bundles</h2>
      <ChooseOperations chosen={typed.operations} onChange={(operations) => set({ operations })} />
      <Button main type="submit" disabled={saving || typed.operations.length === 0}>
        {verb}
      </Button>
      <Trouble error={error} />
    </form>
  );
}

/** Text in Markdown, with a look at how it will read. */
function Markdown({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
}) {
  const [shown, setShown] = useState(false);
  const made = useQuery({ ...markdown(value), enabled: shown });
  return (
    <div className="mb-3">
      <Field label={label} area value={value} onChange={onChange} hint="Markdown" />
      <div className="-mt-2 text-[12px]">
        <WordButton className="text-[12px]" onClick={() => setShown(!shown)}>
          {shown ? "hide how it reads" : "how it reads"}
        </WordButton>
      </div>
      {shown && made.data !== undefined && (
        <div className="mt-1 border-l-[3px] border-line pl-3">
          <Prose html={made.data} />
        </div>
      )}
    </div>
  );
}
