/** What a letter says, as it is read: as HTML where there is any. */
export function Letter({ text, html }: { text: string; html: string }) {
  return html ? (
    <iframe
      title="The letter"
      sandbox=""
      srcDoc={html}
      className="mt-2 h-[420px] w-full border border-line bg-paper"
    />
  ) : (
    <pre className="mt-2 overflow-x-auto border border-line bg-paper p-3 text-[12.5px] whitespace-pre-wrap">
      {text}
    </pre>
  );
}
