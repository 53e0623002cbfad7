/** Verdicts have shape, colour and word: served ● kelp, held ◌ dusk, refused ▬ madder. */
export type VerdictName = "served" | "held" | "refused";

const shapes: Record<string, string> = {
  served: "h-[9px] w-[9px] rounded-full bg-kelp",
  passed: "h-[9px] w-[9px] rounded-full bg-kelp",
  held: "h-[9px] w-[9px] rounded-full border-2 border-dusk",
  refused: "h-1 w-[11px] bg-madder",
  end: "h-[9px] w-[9px] rounded-full border border-line bg-paper",
};
const colours: Record<string, string> = { served: "text-kelp", held: "text-dusk", refused: "text-madder" };

export function Shape({ of, className = "" }: { of: string; className?: string }) {
  return <span aria-hidden className={`inline-block shrink-0 ${shapes[of] ?? shapes.end} ${className}`} />;
}

export function Verdict({ of, children }: { of: string; children?: React.ReactNode }) {
  return (
    <span className={`inline-flex items-center gap-1.5 ${colours[of] ?? ""}`}>
      <Shape of={of} />
      {children ?? of}
    </span>
  );
}
