import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api } from "../../api/console";
import { sentence } from "../../api/problem";
import { useStale } from "../../api/queries/asking";
import { STALE } from "../../api/queries/compose";
import { Button, Dialog, Trouble, Waiting, WordButton } from "../../kit/controls";
import { day, minute } from "../../kit/format";
import { NameDialog } from "../../kit/name-dialog";
import { valueAt, withCopy } from "../../kit/terms";
import { Page } from "../frame";
import { useOpened } from "../lately";
import { Consequences } from "./consequences";
import { Credentials } from "./credentials";
import { ProductForm } from "./products";
import { Publish } from "./publish";
import { type Sheet, useSheet } from "./sheet-changes";
import { Steps } from "./steps";
import { TermTable } from "./term-table";

type Asked = "publish" | "plan" | "product" | "credentials" | "clone" | { plan: number; path: string } | null;

/** A product's plans side by side, terms as rows, each term a sentence edited in place. */
export function TariffSheet() {
  const { id } = useParams();
  const makeStale = useStale();
  const work = useSheet(Number(id));
  const { sheet, save, stale, show } = work;
  const [asked, setAsked] = useState<Asked>(null);
  useOpened(sheet?.product.name);
  if (!sheet)
    return (
      <Page title="Tariff sheet">
        {work.query.error ? <Trouble error={work.query.error} /> : <Waiting words="Laying out the sheet" />}
      </Page>
    );
  const close = () => setAsked(null);
  const showAnd = (next: Sheet) => {
    show(next);
    close();
  };
  const drafted = sheet.plans.filter((p) => p.drafted);
  const steps = asked !== null && typeof asked === "object" ? asked : null;
  const stepsPlan = sheet.plans.find((p) => p.id === steps?.plan);
  return (
    <Page
      title={sheet.product.name}
      sub={
        <>
          {sheet.product.apis.join(", ")} · {sheet.product.decided.join(" ")}
          {sheet.product.groups.length > 0 && ` · only for ${sheet.product.groups.join(", ")}`} · terms of{" "}
          {day(sheet.product.terms_dated)} ·{" "}
          <WordButton onClick={() => setAsked("product")}>product and terms of use</WordButton> ·{" "}
          <WordButton onClick={() => setAsked("credentials")}>how callers prove who they are</WordButton> ·{" "}
          <WordButton onClick={() => setAsked("clone")}>clone</WordButton>
        </>
      }
      margin={<Consequences productId={Number(id)} sheet={sheet} />}
    >
      <div className="my-3 flex items-center gap-3.5 text-[13px] text-soft">
        <span aria-live="polite">{save.isPending ? "Saving …" : draftWords(drafted)}</span>
        <Word shown={work.past.length > 0} onClick={work.undo} title="Ctrl-Z">
          undo
        </Word>
        <Word shown={work.future.length > 0} onClick={work.redo} title="Ctrl-Y">
          redo
        </Word>
        <span className="flex-1" />
        <Button onClick={() => setAsked("plan")} disabled={sheet.plans.length >= 8}>
          Add a plan
        </Button>
        <Button main disabled={drafted.length === 0} onClick={() => setAsked("publish")}>
          Publish…
        </Button>
      </div>
      {stale ? (
        <Conflict
          onTheirs={() => {
            show(stale);
            work.forget();
            save.reset();
          }}
          onMine={async () => {
            await show(stale); // whose edition mine is to follow
            if (save.variables) save.mutate({ plan: save.variables.plan, terms: save.variables.terms });
          }}
        />
      ) : (
        save.error && (
          <p role="alert" className="mb-2 border-l-[3px] border-madder pl-2.5 text-madder">
            {sentence(save.error)} The term stays as it was.
          </p>
        )
      )}
      {sheet.plans.length === 0 ? (
        <p className="py-4 text-soft">
          Plans belong here, side by side. Add the first one, and write its terms in place.
        </p>
      ) : (
        <TermTable
          sheet={sheet}
          onShow={show}
          onChange={work.change}
          onCopy={(from, to, row) => {
            const terms = sheet.plans.find((p) => p.id === from)?.terms;
            for (const plan of to) work.rework(plan, (before) => withCopy(terms, before, row.slot));
          }}
          onSteps={(plan, path) => setAsked({ plan, path })}
        />
      )}
      {sheet.meters.length === 0 && (
        <p className="mt-4 text-soft">
          No meter counts an operation of this product yet, so no allowance and no usage price can be written.
        </p>
      )}
      {sheet.withdrawn.length > 0 && (
        <p className="mt-4 text-[13px] text-soft">
          Withdrawn:{" "}
          {sheet.withdrawn.map((p) => (
            <Link key={p.id} className="figure-link mr-2" to={`/compose/revisions/${p.revision_id}`}>
              {p.name}
            </Link>
          ))}
        </p>
      )}
      {asked === "publish" && (
        <Publish
          sheet={sheet}
          onClose={close}
          onDone={(next) => {
            work.forget();
            showAnd(next);
          }}
        />
      )}
      {asked === "plan" && <AddPlan productId={sheet.product.id} onClose={close} onDone={showAnd} />}
      {asked === "product" && (
        <EditProduct
          sheet={sheet}
          onClose={close}
          onDone={() => {
            makeStale(STALE.product);
            close();
          }}
        />
      )}
      {asked === "credentials" && (
        <Credentials
          product={sheet.product}
          onClose={close}
          onDone={() => {
            makeStale(STALE.product);
            close();
          }}
        />
      )}
      {asked === "clone" && <CloneProduct product={sheet.product} onClose={close} />}
      {steps && stepsPlan && (
        <Steps
          price={valueAt(stepsPlan.terms, steps.path) as never}
          title={`Steps of a price on ${stepsPlan.name}`}
          currency={sheet.currency}
          onClose={close}
          onSave={(price) => {
            work.change(steps.plan, steps.path, price);
            close();
          }}
        />
      )}
    </Page>
  );
}

function Word({ shown, ...rest }: { shown: boolean } & React.ComponentProps<typeof WordButton>) {
  return <WordButton disabled={!shown} className={shown ? "" : "invisible"} {...rest} />;
}

function draftWords(drafted: Sheet["plans"]): string {
  if (!drafted.length) return "As published; a change starts a draft.";
  const last = drafted.reduce((a, b) => ((a.saved_at ?? "") > (b.saved_at ?? "") ? a : b));
  const names = drafted.map((p) => `${p.name} revision ${(p.live_revision ?? 0) + 1}`).join(", ");
  return `Draft of ${names}, saved ${last.saved_at ? minute(last.saved_at) : ""} by ${last.saved_by}`;
}

function Conflict({ onTheirs, onMine }: { onTheirs: () => void; onMine: () => void }) {
  return (
    <div role="alert" className="mb-2 border-l-[3px] border-brass pl-2.5">
      Somebody else changed this plan meanwhile, and their terms are not shown yet.{" "}
      <WordButton onClick={onTheirs}>Show theirs</WordButton> or{" "}
      <WordButton onClick={onMine}>put yours in place</WordButton>.
    </div>
  );
}

function AddPlan({
  productId,
  onClose,
  onDone,
}: {
  productId: number;
  onClose: () => void;
  onDone: (sheet: Sheet) => void;
}) {
  return (
    <NameDialog
      title="A new plan"
      verb="Add the plan"
      hint="It stands at the right of the sheet, as a draft nobody sees yet."
      onClose={onClose}
      send={async (name) => {
        const path = { product_id: productId };
        onDone(await api.post("/products/{product_id}/plans", { params: { path }, body: { name } }));
      }}
    />
  );
}

function CloneProduct({ product, onClose }: { product: Sheet["product"]; onClose: () => void }) {
  const navigate = useNavigate();
  return (
    <NameDialog
      title={`A product like ${product.name}`}
      verb="Make it"
      hint="It gets the same operations, terms of use and plans; the plans as drafts."
      onClose={onClose}
      send={async (name) => {
        const path = { product_id: product.id };
        const made = await api.post("/products/{product_id}/clone", { params: { path }, body: { name } });
        onClose();
        navigate(`/compose/products/${made.id}`);
      }}
    />
  );
}

function EditProduct({ sheet, onClose, onDone }: { sheet: Sheet; onClose: () => void; onDone: () => void }) {
  const p = sheet.product;
  return (
    <Dialog wide open onClose={onClose} title={p.name}>
      <ProductForm
        start={{
          name: p.name,
          description: p.description,
          contact: p.contact,
          terms_of_use: p.terms_of_use,
          route: p.route,
          target_days: p.target_days,
          groups: p.group_ids,
          operations: p.operations,
          moves_anew: p.moves_anew,
          strangers_plan: p.strangers_plan,
          subscribing_site: p.subscribing_site,
        }}
        plans={sheet.plans.filter((plan) => plan.state === "on sale" || plan.id === p.strangers_plan)}
        all={sheet.plans}
        verb="Save"
        send={(body) =>
          api.put("/products/{product_id}", {
            params: { path: { product_id: p.id }, header: { "if-match": `"${p.edition}"` } },
            body,
          })
        }
        done={onDone}
      />
    </Dialog>
  );
}
