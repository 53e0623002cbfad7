import type { Portal } from "../../api/portal";
import { untilWhen } from "../format";

type Subscription = Portal["SubscriptionView"];
export type Move = {
  kind: "change plan" | "pause" | "resume" | "end";
  when: "now" | "later";
  plan_id?: number;
};

export const VERBS = {
  "change plan": "move it to",
  pause: "pause it",
  resume: "let it go on",
  end: "end it",
};

/** What can be done with a subscription as it stands. */
export function kindsOf(of: Subscription): Move["kind"][] {
  const first: Move["kind"][] = of.choices.length > 0 ? ["change plan"] : [];
  if (of.state === "paused") return ["resume", ...first, "end"];
  return of.state === "trial" ? [...first, "end"] : [...first, "pause", "end"];
}

/** When a move can be made, with the words for it. */
export function momentsOf(of: Subscription, kind: Move["kind"]): [Move["when"], string][] {
  const later = kind === "end" ? of.end_later_at : of.later_at;
  const afterwards: [Move["when"], string] = [
    "later",
    of.trial ? "when the trial ends" : `with ${later ? untilWhen(later) : "the month"}`,
  ];
  if (kind === "pause" || kind === "resume") return [["now", "now"]];
  const noticed = kind === "end" && of.end_at !== null && new Date(of.end_at) > new Date();
  if (of.trial) return [afterwards, ["now", "now"]];
  return noticed ? [afterwards] : [["now", "now"], afterwards];
}

/** What the button says that makes a move. */
export function verb(move: Move, plan: string, of: Subscription): string {
  if (move.kind === "pause") return "Pause it";
  if (move.kind === "resume") return "Let it go on";
  if (move.kind === "end") return move.when === "now" ? "End it now" : "End it then";
  if (of.trial && move.when === "later") return `Let ${plan} follow`;
  return move.when === "now" ? `Move it to ${plan} now` : `Move it to ${plan} then`;
}
