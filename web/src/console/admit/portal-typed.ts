import type { Console } from "../../api/console";

type View = Console["PortalView"];

/** A portal as it is typed: mail domains are lines of a text. */
export type Typed = Omit<Required<Console["PortalIn"]>, "mail_domains"> & { mail_domains: string };

export function typedOf(view: View): Typed {
  const { sign_up, domains, at_once } = view.entrance;
  return {
    ...view.brand,
    host: view.host,
    sign_up,
    at_once,
    mail_domains: domains.join("\n"),
    everything: view.everything,
    products: view.product_ids,
    groups: view.group_ids,
    pages: view.pages,
  };
}
