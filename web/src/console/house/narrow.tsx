import { useQuery } from "@tanstack/react-query";
import { recordChoices } from "../../api/queries/house";
import { useAddress } from "../../kit/address";
import { Choose } from "../../kit/choose";
import { Trouble, WordButton } from "../../kit/controls";

/** What the record is narrowed to, as its address says. */
export function useNarrowed() {
  const { search } = useAddress();
  const one = (name: string) => search.get(name) || undefined;
  const sought = {
    by: one("who"),
    subject_kind: one("thing"),
    subject_id: /^\d{1,15}$/.test(one("id") ?? "") ? Number(one("id")) : undefined,
    action: one("did"),
    first: one("from"),
    last: one("to"),
  };
  return Object.fromEntries(Object.entries(sought).filter(([, value]) => value !== undefined)) as {
    [name in keyof typeof sought]?: NonNullable<(typeof sought)[name]>;
  };
}

/** What narrows the record: who did it, to what, what was done, and when. */
export function Narrow() {
  const { search, change } = useAddress();
  const choices = useQuery(recordChoices());
  const of = (name: string) => search.get(name) ?? "";
  const id = of("id");
  const pick = (
    name: string,
    label: string,
    all: string,
    options: readonly (readonly [string, string])[],
  ) => (
    <Choose
      quiet
      className="w-[150px]"
      label={label}
      value={of(name)}
      choices={[["", all] as const, ...options]}
      onChange={(value) => change({ [name]: value || null, ...(name === "thing" && { id: null }) })}
    />
  );
  const same = (words: readonly string[]) => words.map((word) => [word, word] as const);
  const day = (name: string, label: string) => (
    <label className="flex items-baseline gap-2 text-soft">
      {label}
      <input
        type="date"
        className="border-b border-line bg-transparent text-ink"
        value={of(name)}
        onChange={(e) => change({ [name]: e.target.value || null })}
      />
    </label>
  );
  return (
    <>
      <Trouble error={choices.error} />
      <div className="mt-3 flex flex-wrap items-end gap-x-4 gap-y-2 text-[13px]">
        {pick(
          "who",
          "Who",
          "by anybody",
          (choices.data?.authors ?? []).map((a) => [a.by, `${a.name} (${a.by})`] as const),
        )}
        {pick("did", "What was done", "whatever was done", same(choices.data?.actions ?? []))}
        {pick("thing", "To what", "to anything", same(choices.data?.subject_kinds ?? []))}
        <span className="flex gap-x-3">
          {day("from", "from")}
          {day("to", "to")}
        </span>
        {id && (
          <span>
            {of("thing")} {id} alone <WordButton onClick={() => change({ id: null })}>all of them</WordButton>
          </span>
        )}
      </div>
    </>
  );
}
