/** Text the server has made safe HTML of (Markdown without raw HTML). */
export function Prose({ html }: { html: string }) {
  // biome-ignore lint/security/noDangerouslySetInnerHtml: the server lets no raw HTML through
  return <div className="prose" dangerouslySetInnerHTML={{ __html: html }} />;
}
