import { useQuery } from "@tanstack/react-query";
import type { Portal } from "../api/portal";
import { operation } from "../api/queries/portal";
import { Trouble, Waiting } from "../kit/controls";
import { untilWhen } from "../kit/format";
import { Prose } from "../kit/prose";
import { Calling } from "./calling/calling";

type Node = Portal["Node"];
type Body = Portal["Body"];

/** An operation as its document describes it, and what counts and limits it. */
export function OperationInFull({ product, id }: { product: Portal["Storefront"]; id: number }) {
  const query = useQuery(operation(product.slug, id));
  const one = query.data;
  if (!one) return query.error ? <Trouble error={query.error} /> : <Waiting words="Fetching the operation" />;
  const said = one.described;
  return (
    <div className="grid gap-x-12 gap-y-4 pt-1 pb-6 lg:grid-cols-[1fr_320px]">
      <div className="min-w-0 lg:col-span-2">
        {said?.description && <Prose html={said.description} />}
        <Calling key={one.line.id} one={one} product={product} />
      </div>
      <div className="min-w-0">
        {!said && <p className="text-soft">Its API is described by no document.</p>}
        {said && said.parameters.length > 0 && (
          <Part title="Parameters">
            <Nodes nodes={said.parameters.map((p) => ({ ...p.value, place: p.place }))} />
          </Part>
        )}
        {said && said.bodies.length > 0 && (
          <Part title={said.body_required ? "Body" : "Body, if one is sent"}>
            {said.bodies.map((body) => (
              <InBody key={body.media_type} body={body} />
            ))}
          </Part>
        )}
        {said?.answers.map((answer) => (
          <Part key={answer.status} title={`Answers ${answer.status}`}>
            <Prose html={answer.description} />
            {answer.headers.length > 0 && (
              <Nodes nodes={answer.headers.map((h) => ({ ...h, place: "header" }))} />
            )}
            {answer.bodies.map((body) => (
              <InBody key={body.media_type} body={body} />
            ))}
          </Part>
        ))}
      </div>
      <aside aria-label="What counts and limits it" className="self-start text-[13.5px]">
        {one.ends_at && (
          <Part title="Its end">
            <p>
              {one.line.version} answers until {untilWhen(one.ends_at)}.
            </p>
          </Part>
        )}
        <Part title="Counted by">
          <p>{one.meters.join(", ") || "no meter: a call costs no units"}</p>
        </Part>
        <Part title="Limited">
          {one.plans.map((plan) => (
            <div key={plan.plan} className="mb-1.5">
              <b className="font-semibold">{plan.plan}</b>
              {plan.limits.map((limit) => (
                <p key={limit}>{limit}</p>
              ))}
              {plan.limits.length === 0 && <p>not at all</p>}
            </div>
          ))}
        </Part>
        <Part title="Called with">
          {one.credentials.map((credential) => (
            <p key={credential}>{credential}</p>
          ))}
          {one.open_under && <p>or none, under the limits of {one.open_under} for your address</p>}
          {one.tried_by_anyone && (
            <p>
              in the sandbox none, with <code className="font-mono">Calm-Environment: sandbox</code>
            </p>
          )}
        </Part>
      </aside>
    </div>
  );
}

function Part({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <section className="mb-4">
      <h3 className="mb-1 border-b border-(--portal-line-soft) pb-0.5 text-[16px]">{title}</h3>
      {children}
    </section>
  );
}

function InBody({ body }: { body: Body }) {
  return (
    <div className="mb-2">
      <p className="text-[13px] text-soft">
        {body.media_type}
        {body.schema && `: ${body.schema.type}`}
      </p>
      {body.schema && <Nodes nodes={body.schema.parts} />}
      {body.example !== null && (
        <details className="mt-1">
          <summary className="cursor-pointer text-[13px]">an example</summary>
          <pre className="mt-1 bg-(--portal-tint) p-3 font-mono text-[12.5px] break-words whitespace-pre-wrap">
            {indented(body.example)}
          </pre>
        </details>
      )}
    </div>
  );
}

function indented(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}

/** Values with what they may be, their parts beneath them. */
function Nodes({ nodes, depth = 0 }: { nodes: (Node & { place?: string })[]; depth?: number }) {
  return (
    <ul className={depth > 0 ? "ml-1 border-l border-(--portal-line) pl-3.5" : ""}>
      {nodes.map((node, at) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: choices of one value may share a name
        <li key={at} className="py-1 text-[14px]">
          <code className="font-mono text-[13px]">{node.name}</code>{" "}
          <span className="text-(--portal-soft)">
            {node.type}
            {node.place && node.place !== "path" && `, in the ${node.place}`}
          </span>
          {node.required && <b className="ml-2 text-[13px] font-semibold">required</b>}
          {node.deprecated && <span className="ml-2 text-[13px] text-brass">deprecated</span>}
          {node.description && <Prose html={node.description} />}
          <Facts of={node} />
          {node.parts.length > 0 && (
            <details open={depth < 2}>
              <summary className="cursor-pointer text-[13px] text-soft">its parts</summary>
              <Nodes nodes={node.parts} depth={depth + 1} />
            </details>
          )}
        </li>
      ))}
    </ul>
  );
}

function Facts({ of }: { of: Node }) {
  const facts = [
    ...of.rules,
    of.choices.length === 1 && `always ${of.choices[0]}`,
    of.choices.length > 1 && `one of ${of.choices.join(", ")}`,
    of.default !== null && `${of.default} where nothing is said`,
    of.example !== null && `such as ${of.example}`,
  ].filter(Boolean);
  return facts.length > 0 ? <p className="text-[13px] text-soft">{facts.join("; ")}</p> : null;
}
