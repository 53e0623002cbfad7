import { Link } from "react-router";
import { useMe } from "../me";

/** Why somebody cannot write here, where they cannot. */
export function useSilence(): React.ReactNode {
  const me = useMe();
  if (me.may.includes("ask and rate")) return null;
  if (!me.name)
    return (
      <>
        To take part,{" "}
        <Link className="figure-link" to="/sign-in">
          sign in
        </Link>
        .
      </>
    );
  if (!me.let_in) return `${me.consumer} has not been let in yet.`;
  if (me.closed) return `The account of ${me.consumer} is closed.`;
  return `Owners and developers of ${me.consumer} take part; you belong to it as ${me.role}.`;
}
