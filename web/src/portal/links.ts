import { useQuery } from "@tanstack/react-query";
import { lineDays } from "../api/queries/portal";

export const useDays = (line: number) => useQuery(lineDays(line));
export const documentLink = (of: { kind: string; document_id: number }) =>
  of.kind === "invoice" ? `/invoices/${of.document_id}` : `/credit-notes/${of.document_id}`;
export const callsLink = (subscription: number, meter: number, d: { since_us: number; until_us: number }) =>
  `/usage?subscription=${subscription}&meter=${meter}&since_us=${d.since_us}&until_us=${d.until_us}`;
