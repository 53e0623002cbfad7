import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { markdown } from "../api/queries/compose";
import { WordButton } from "../kit/controls";
import { Line } from "../kit/fields";
import { Prose } from "../kit/prose";

/** Text in Markdown, with a look at how it will read. */
export function Markdown({ name, label, value }: { name: string; label: string; value: string }) {
  const [shown, setShown] = useState(false);
  const made = useQuery({ ...markdown(value), enabled: shown });
  return (
    <div className="mb-3">
      <Line name={name} label={label} area hint="Markdown" />
      <div className="-mt-2 text-[12px]">
        <WordButton className="text-[12px]" onClick={() => setShown(!shown)}>
          {shown ? "hide how it reads" : "how it reads"}
        </WordButton>
      </div>
      {shown && made.data !== undefined && (
        <div className="mt-1 border-l-[3px] border-line pl-3">
          <Prose html={made.data} />
        </div>
      )}
    </div>
  );
}
