import { useQueryClient } from "@tanstack/react-query";
import { useLocation, useNavigate } from "react-router";
import { entered } from "../api/queries/asking";

const ENTRANCES = new Set(["/sign-in", "/confirm", "/reset", "/join", "/signed-in"]);

/** What is to be done once somebody is signed in: what an entrance leads to is shown, and all is read anew. */
export function useEntered() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const { pathname } = useLocation();
  return async () => {
    await entered(queries);
    if (ENTRANCES.has(pathname)) navigate("/applications", { replace: true });
  };
}
