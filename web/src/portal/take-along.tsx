import { useQuery } from "@tanstack/react-query";
import { BEGINS } from "../api/begins";
import { versionsToTake } from "../api/queries/portal";

/** What a developer takes along of a product: documents and calls, for the tools one has. */
export function TakeAlong({ slug }: { slug: string }) {
  const versions = useQuery(versionsToTake(slug));
  const at = `${BEGINS}/api/v1/products/${slug}`;
  if (!versions.data || versions.data.length === 0) return null;
  return (
    <section aria-label="To take along" className="mt-6 max-w-[76ch] text-[13.5px]">
      <h2 className="mb-1 text-[20px]">To take along</h2>
      <p>
        OpenAPI documents, cut down to what is sold here:{" "}
        {versions.data.map((version, place) => (
          <span key={version.id}>
            {place > 0 && ", "}
            <a className="figure-link" download href={`${at}/versions/${version.id}/openapi.json`}>
              {version.name} in JSON
            </a>
            ,{" "}
            <a className="figure-link" download href={`${at}/versions/${version.id}/openapi.yaml`}>
              {version.name} in YAML
            </a>
          </span>
        ))}
        .
      </p>
      <p className="mt-1">
        A call of each operation, for HTTP clients:{" "}
        <a className="figure-link" download href={`${at}/calls.har`}>
          all calls in an HTTP archive (HAR 1.2)
        </a>
        .
      </p>
    </section>
  );
}
