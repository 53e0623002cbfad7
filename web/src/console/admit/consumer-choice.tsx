import { useQuery } from "@tanstack/react-query";
import { useEffect, useId, useState } from "react";
import { consumer, consumersNamed } from "../../api/queries/admit";

type Consumer = { id: number; name: string };

/** One consumer of many: its name is typed, the server offers those that hold what is typed. Emptied, it is nobody. */
export function ConsumerChoice({
  label,
  chosen,
  nobody,
  className,
  onChoose,
}: {
  label: string;
  chosen: number | null;
  nobody: string;
  className: string;
  onChoose: (consumer: Consumer | null) => void;
}) {
  const list = useId();
  const [typed, setTyped] = useState<string | null>(null);
  const offered = useQuery(consumersNamed(typed ?? ""));
  const rows = offered.data?.rows ?? [];
  const known = rows.find((c) => c.id === chosen);
  const one = useQuery({
    ...consumer(chosen ?? 0),
    enabled: chosen !== null && !known && !offered.isPending,
  });
  const name = chosen === null ? "" : (known?.name ?? one.data?.line.name ?? "");
  // What is typed stands until it is a consumer's whole name, whether that was offered already or comes in later.
  const match = typed ? rows.find((c) => c.name.toLowerCase() === typed.toLowerCase()) : undefined;
  useEffect(() => {
    if (!match) return;
    onChoose(match);
    setTyped(null);
  }, [match, onChoose]);
  const type = (text: string) => {
    setTyped(text);
    if (text === "" && chosen !== null) onChoose(null);
  };
  return (
    <>
      <input
        aria-label={label}
        className={className}
        list={list}
        placeholder={nobody}
        value={typed ?? name}
        onChange={(e) => type(e.target.value)}
      />
      <datalist id={list}>
        {rows.map((c) => (
          <option key={c.id} value={c.name} />
        ))}
      </datalist>
    </>
  );
}
