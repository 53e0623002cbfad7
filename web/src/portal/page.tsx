import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { page } from "../api/queries/portal";
import { Trouble, Waiting } from "../kit/controls";
import { Prose } from "../kit/prose";

/** A further page in the provider's own words. */
export function FurtherPage() {
  const { prefix = "" } = useParams();
  const read = useQuery(page(prefix));
  if (!read.data) return read.error ? <Trouble error={read.error} /> : <Waiting words="Fetching the page" />;
  return (
    <>
      <h1 className="text-[38px]">{read.data.title}</h1>
      <div className="mt-3 max-w-[68ch] text-[16px]">
        <Prose html={read.data.html} />
      </div>
    </>
  );
}
