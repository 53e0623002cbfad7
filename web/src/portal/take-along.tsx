import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { BEGINS } from "../api/begins";
import { api, type Portal } from "../api/portal";
import { makeStale } from "../api/queries/asking";
import { clientStates, STALE, versionsToTake } from "../api/queries/portal";
import { Trouble, WordButton } from "../kit/controls";

type Client = Portal["ClientState"];
const LANGUAGES: Record<Client["language"], string> = { python: "Python", typescript: "TypeScript" };

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
      {versions.data.map((version) => (
        <Clients key={version.id} slug={slug} version={version} />
      ))}
    </section>
  );
}

/** Clients of a version, generated when somebody asks for one. */
function Clients({ slug, version }: { slug: string; version: Portal["VersionToTake"] }) {
  const queries = useQueryClient();
  const states = useQuery({
    ...clientStates(slug, version.id),
    refetchInterval: ({ state }) => (state.data?.some((c) => c.state === "being made") ? 1_000 : false),
  });
  const ask = useMutation({
    mutationFn: (language: Client["language"]) =>
      api.post("/products/{slug}/versions/{version_id}/clients/{language}", {
        params: { path: { slug, version_id: version.id, language } },
      }),
    onSuccess: () => makeStale(queries, STALE.client),
  });
  if (!states.data) return null;
  return (
    <div className="mt-1">
      Clients for {version.name}, generated from its document:{" "}
      {states.data.map((client, at) => (
        <span key={client.language}>
          {at > 0 && ", "}
          <One
            of={client}
            href={`${BEGINS}/api/v1/products/${slug}/versions/${version.id}/clients/${client.language}/package.zip`}
            version={version.name}
            onAsk={() => ask.mutate(client.language)}
          />
        </span>
      ))}
      .
      <Trouble error={ask.error} />
      {states.data.map(
        (client) =>
          client.why && (
            <p key={client.language} className="text-soft">
              {LANGUAGES[client.language]}: {client.why}
            </p>
          ),
      )}
    </div>
  );
}

function One({ of, href, version, onAsk }: { of: Client; href: string; version: string; onAsk: () => void }) {
  const language = LANGUAGES[of.language];
  const ready = `${language}, as a package that installs`;
  if (of.state === "ready")
    return (
      <a className="figure-link" download href={href} aria-label={`${ready}, of ${version}`}>
        {ready}
      </a>
    );
  if (of.state === "being made") return <span role="status">{language} is being made …</span>;
  if (of.state === "cannot be") return <span className="text-soft">none for {language}</span>;
  const words = of.state === "failed" ? `try ${language} again` : `make one for ${language}`;
  return (
    <WordButton className="text-[13.5px]" aria-label={`${words}, of ${version}`} onClick={onAsk}>
      {words}
    </WordButton>
  );
}
