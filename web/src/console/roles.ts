import type { Console } from "../api/console";

export type HouseRole = Console["Colleague"]["roles"][number];

/** The roles of the house, and what each is for, in a sentence. */
export const ROLES: readonly (readonly [HouseRole, string])[] = [
  ["product manager", "describes APIs, says what counts, and shapes plans and their prices"],
  ["reviewer", "decides on requests, lets organisations in, and answers them"],
  ["operations", "sees to limits, overrides and gateways, and suspends consumers"],
  ["finance", "closes periods and issues invoices"],
  ["owner", "runs the house: people, their roles, and everybody's tokens"],
];

export const inWords = (roles: readonly string[]) => roles.join(" and ");

/** Whether somebody has one of some roles. */
export const isOne = (roles: readonly HouseRole[] | undefined, of: readonly HouseRole[]) =>
  of.some((role) => roles?.includes(role));
