import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { eventTopics } from "../../api/queries/house";
import { Refusal, Trouble, Waiting, WordButton } from "../../kit/controls";
import { useField } from "../../kit/form";
import { listed } from "../../kit/format";

/** A topic or type of events as people say it. */
const plain = (name: string) => name.replaceAll("_", " ");

/** What an endpoint hears of, in words. */
export function heard(wants: string[]): string {
  if (wants.includes("*")) return "everything";
  const topics = new Map<string, string[]>();
  for (const want of wants) {
    const [topic = "", what = ""] = want.split(".");
    topics.set(topic, [...(topics.get(topic) ?? []), what]);
  }
  const whole = [...topics].filter(([, of]) => of.includes("*")).map(([topic]) => plain(topic));
  const single = [...topics]
    .filter(([, of]) => !of.includes("*"))
    .map(([topic, of]) => `${plain(topic)}: ${of.map(plain).join(", ")}`);
  return [...(whole.length > 0 ? [`${listed(whole)} events`] : []), ...single].join("; ");
}

/** Which events: everything, all of some things, or single ones of them. */
export function EventChoice({ name }: { name: string }) {
  const { value, onChange, error } = useField<string[]>(name);
  const topics = useQuery(eventTopics());
  const [open, setOpen] = useState("");
  const all = value.includes("*");
  const has = (one: string) => value.includes(one);
  const set = (topic: string, wants: string[]) =>
    onChange([...value.filter((one) => one !== "*" && !one.startsWith(`${topic}.`)), ...wants]);
  const single = (topic: string, types: string[], type: string) => {
    const chosen = has(`${topic}.*`) ? types : value.filter((one) => one.startsWith(`${topic}.`));
    set(topic, chosen.includes(type) ? chosen.filter((one) => one !== type) : [...chosen, type]);
  };
  return (
    <fieldset className="mb-3">
      <legend className="text-[13px] text-soft">Hears of</legend>
      <label className="flex items-baseline gap-2 py-1">
        <input
          type="checkbox"
          className="accent-(--color-kelp)"
          checked={all}
          onChange={() => onChange(all ? [] : ["*"])}
        />
        everything that happens
      </label>
      <Trouble error={topics.error} />
      {topics.isPending && <Waiting words="Reading what can happen" />}
      {!all && (
        <div className="columns-3 gap-6">
          {topics.data?.map(({ topic, types }) => {
            const whole = has(`${topic}.*`);
            const some = types.filter(has).length;
            return (
              <div key={topic} className="break-inside-avoid py-0.5">
                <div className="flex items-baseline gap-2">
                  <label className="flex flex-1 items-baseline gap-2">
                    <input
                      type="checkbox"
                      className="accent-(--color-kelp)"
                      checked={whole}
                      onChange={() => set(topic, whole ? [] : [`${topic}.*`])}
                    />
                    {plain(topic)}
                  </label>
                  {types.length > 1 && (
                    <WordButton
                      className="text-[12px]"
                      aria-expanded={open === topic}
                      aria-label={`${whole ? "all" : some || "single ones"} of ${plain(topic)}`}
                      onClick={() => setOpen(open === topic ? "" : topic)}
                    >
                      {whole ? "all" : some || "single ones"}
                    </WordButton>
                  )}
                </div>
                {open === topic &&
                  types.map((type) => (
                    <label key={type} className="flex items-baseline gap-2 pl-5 text-[13px]">
                      <input
                        type="checkbox"
                        className="accent-(--color-kelp)"
                        checked={whole || has(type)}
                        onChange={() => single(topic, types, type)}
                      />
                      {plain(type.slice(topic.length + 1))}
                    </label>
                  ))}
              </div>
            );
          })}
        </div>
      )}
      {error && <Refusal>{error}</Refusal>}
    </fieldset>
  );
}
