import { useEffect, useState } from "react";
import { Button, Waiting } from "../../kit/controls";
import { names } from "./language-names";
import type { Request } from "./request";
import { Scrolled } from "./scrolled";

type Generator = typeof import("./languages");
const KEPT = "snippets in";

/** A call as a program, in the language the reader likes; the generator is fetched when it is first wanted. */
export function Snippet({ of }: { of: Request }) {
  const [language, setLanguage] = useState(() => {
    const liked = localStorage.getItem(KEPT);
    return names.find((name) => name === liked) ?? names[0];
  });
  const [copied, setCopied] = useState("");
  const [generator, setGenerator] = useState<Generator | "none" | null>(null);
  useEffect(() => {
    import("./languages").then(setGenerator, () => setGenerator("none"));
  }, []);
  const text = generator && generator !== "none" && generator.written(of, language);
  const choose = (name: string) => {
    const chosen = names.find((one) => one === name) ?? names[0];
    localStorage.setItem(KEPT, chosen);
    setLanguage(chosen);
  };
  return (
    <div className="min-w-0">
      <p className="mb-1 flex flex-wrap items-baseline gap-x-2 text-[13px]">
        <label className="text-soft">
          Written in{" "}
          <select
            className="border-b border-dashed border-line bg-transparent text-ink"
            value={language}
            onChange={(e) => choose(e.target.value)}
          >
            {names.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
        {text && (
          <Button
            small
            className="ml-auto"
            onClick={() => navigator.clipboard.writeText(text).then(() => setCopied(text))}
          >
            {copied === text ? "Copied" : "Copy"}
          </Button>
        )}
      </p>
      {generator === "none" && <p className="text-[13px] text-madder">The snippets cannot be fetched now.</p>}
      {generator === null && (
        <div className="min-h-24">
          <Waiting words="Writing it" />
        </div>
      )}
      {text && (
        <Scrolled label={`The call in ${language}`} most="max-h-[420px]">
          <pre>{text}</pre>
        </Scrolled>
      )}
    </div>
  );
}
