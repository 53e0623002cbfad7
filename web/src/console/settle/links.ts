import { useQuery } from "@tanstack/react-query";
import { lineDays } from "../../api/queries/settle";

export const useDays = (line: number) => useQuery(lineDays(line));
export const documentLink = (of: { kind: string; document_id: number }) =>
  of.kind === "invoice" ? `/settle/invoices/${of.document_id}` : `/settle/credit-notes/${of.document_id}`;
export const revisionLink = (of: { revision_id: number }) => `/compose/revisions/${of.revision_id}`;
export const callsLink = (
  subscription: number,
  meter: number,
  d: { since_us: number; until_us: number },
): string =>
  `/observe/traffic?subscription=${subscription}&meter=${meter}&since_us=${d.since_us}&until_us=${d.until_us}`;
