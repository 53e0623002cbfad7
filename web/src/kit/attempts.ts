/** Attempts to take what is open of an invoice from a card, and its files: what of them is still under way. */

type Attempt = { state: string };
type Invoice = { summary: { number: string | null }; files: string[]; attempts: Attempt[] };

/** Whether an attempt was neither answered nor called off. */
export const isGoing = (attempt: Attempt) => ["planned", "tried"].includes(attempt.state);

/** Whether an invoice is looked at again soon: it is being written down, or taken from a card. */
export const isUnderWay = (of: Invoice | undefined) =>
  of !== undefined && ((of.summary.number !== null && of.files.length === 0) || of.attempts.some(isGoing));
