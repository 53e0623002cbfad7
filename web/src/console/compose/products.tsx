import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, type Console } from "../../api/console";
import { groups as ofGroups } from "../../api/queries/admit";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/compose";
import { houseSettings } from "../../api/queries/house";
import { Choose } from "../../kit/choose";
import { Button, Trouble, Waiting } from "../../kit/controls";
import { Choices, digits, Line, Own } from "../../kit/fields";
import { Form, Refused, Send, useEntry } from "../../kit/form";
import { Page } from "../frame";
import { ListPage, useList } from "../list";
import { Markdown } from "../markdown";
import { Access } from "./access";
import { ChooseOperations, useAllOperations } from "./operations";

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
      id={(row) => row.id}
      address={(p) => `/compose/products/${p.id}`}
      actions={
        <Button main onClick={() => navigate("/compose/products/new")}>
          Make a new product
        </Button>
      }
      columns={[
        { head: "Product", cell: (p) => p.name, sort: "name" },
        { head: "APIs", cell: (p) => p.apis.join(", ") },
        { head: "Access", cell: (p) => p.access, sort: "access" },
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
  route: { otherwise: "reviewed", rules: [], agreements: [] },
  target_days: 2,
  groups: [],
  operations: [],
  moves_anew: false,
  strangers_plan: null,
  subscribing_site: "",
};

export function NewProduct() {
  const navigate = useNavigate();
  const stale = useStale();
  const house = useQuery(houseSettings());
  if (!house.data)
    return (
      <Page title="A new product">
        {house.error ? <Trouble error={house.error} /> : <Waiting words="Reading the settings" />}
      </Page>
    );
  return (
    <Page title="A new product" sub="Afterwards its plans are laid out on the tariff sheet.">
      <ProductForm
        start={{ ...EMPTY, target_days: house.data.target_days }}
        verb="Make it"
        send={(body) => api.post("/products", { body })}
        done={async (made) => {
          await stale(STALE.product);
          navigate(`/compose/products/${made.id}`, { replace: true });
        }}
      />
    </Page>
  );
}

const MOVES = [
  ["on", "allowances go on with what is used of them"],
  ["anew", "allowances start anew"],
] as const;

type FormProps<R> = {
  start: Typed;
  /** Its plans on sale, under whose limits it may be sold open; and all of them. */
  plans?: { id: number; name: string }[];
  all?: { id: number; name: string }[];
  verb: string;
  send: (typed: Typed) => Promise<R>;
  done: (answer: R) => unknown;
};

export function ProductForm<R>({ start, plans = [], all = [], verb, send, done }: FormProps<R>) {
  const entry = useEntry({ start, send, done });
  const groups = useQuery(ofGroups());
  const { read } = useAllOperations();
  const typed = entry.form.watch();
  return (
    <Form of={entry} className="mt-5 max-w-[660px]">
      <Line name="name" label="Name" required />
      <Markdown name="description" label="What it is, for the portal" value={typed.description} />
      <Markdown name="contact" label="Whom to ask" value={typed.contact} />
      <Markdown
        name="terms_of_use"
        label="Terms of use a subscriber must accept"
        value={typed.terms_of_use}
      />
      {start.terms_of_use !== "" && typed.terms_of_use !== start.terms_of_use && (
        <p className="-mt-2 mb-3 text-[13px] text-brass">
          This becomes a new version. Every subscriber is told by mail and asked to accept it.
        </p>
      )}
      <Access plans={all} />
      <Line
        name="target_days"
        label="To be answered within so many working days (no target, where it stays empty)"
        inputMode="numeric"
        kept={(text) => (text.trim() ? digits(text) : null)}
      />
      <Own<boolean> name="moves_anew">
        {({ value, onChange, error }) => (
          <Choose
            label="Over a move to another plan"
            value={value ? "anew" : "on"}
            choices={MOVES}
            error={error}
            onChange={(chosen) => onChange(chosen === "anew")}
          />
        )}
      </Own>
      {plans.length > 0 && (
        <Own<number | null> name="strangers_plan">
          {({ value, onChange, error }) => (
            <Choose
              label="Without a credential"
              value={value === null ? "" : String(value)}
              choices={[
                ["", "nobody calls it"],
                ...plans.map(({ id, name }): [string, string] => [
                  String(id),
                  `anyone calls it: counted for the address under the limits of ${name}, never charged`,
                ]),
              ]}
              error={error}
              onChange={(chosen) => onChange(chosen === "" ? null : Number(chosen))}
            />
          )}
        </Own>
      )}
      <Line
        name="subscribing_site"
        label="Plans are chosen at a page of your own"
        placeholder="in the portal; or https://…"
      />
      <Choices
        name="groups"
        label="Seen by consumers of"
        choices={(groups.data ?? []).map((g) => [g.id, g.name] as const)}
        none="With no group chosen, everybody sees it. Others could not even name it."
      />
      <h2 className="mb-1">It bundles</h2>
      <Own<number[]> name="operations">
        {({ value, onChange, error }) => (
          <ChooseOperations chosen={value} onChange={onChange} error={error} />
        )}
      </Own>
      <Send disabled={!read || groups.isPending || typed.operations.length === 0}>{verb}</Send>
      <Refused />
    </Form>
  );
}
