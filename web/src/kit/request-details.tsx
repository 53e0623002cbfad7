import { bytes } from "./format";

type Body = { type: string; size: number; cut: boolean; encoding: string; text: string | null };
type Request = {
  line: string;
  address: string;
  fields: string[];
  bytes_in: number;
  bytes_out: number;
  sent: Body | null;
  answered: Body | null;
};

/** What a call came with, without what proved who calls; and its bodies, where they are kept. */
export function RequestDetails({ of }: { of: Request }) {
  return (
    <section aria-label="The request">
      <h2 className="mt-3 mb-1.5">The request</h2>
      <pre className="font-mono text-[12px] leading-[1.55] break-all whitespace-pre-wrap">
        {[of.line, ...of.fields].join("\n")}
      </pre>
      <p className="mt-1 text-[12px] text-soft">
        {of.address && `From ${of.address}. `}
        {bytes(of.bytes_in)} came in, {bytes(of.bytes_out)} went out.
      </p>
      {of.sent && <Shown of={of.sent} title="Its body" />}
      {of.answered && <Shown of={of.answered} title="The answer’s body" />}
    </section>
  );
}

function Shown({ of, title }: { of: Body; title: string }) {
  return (
    <details className="mt-1.5 text-[12px]">
      <summary className="cursor-pointer">
        {title}: {of.type || "no type"}, {bytes(of.size)}
      </summary>
      {of.text === null ? (
        <p className="mt-1 text-soft">
          {of.encoding ? `Encoded (${of.encoding}), and not shown.` : "It is no text, and not shown."}
        </p>
      ) : (
        <>
          <pre
            // biome-ignore lint/a11y/noNoninteractiveTabindex: what is longer is scrolled with keys, too
            tabIndex={0}
            role="region"
            aria-label={title}
            className="mt-1 max-h-64 overflow-auto border-l-2 border-line pl-2 font-mono leading-[1.5] break-all whitespace-pre-wrap"
          >
            {of.text}
          </pre>
          {of.cut && <p className="mt-1 text-soft">Only its beginning is kept.</p>}
        </>
      )}
    </details>
  );
}
