import type { Console } from "../../api/console";
import { Choose } from "../../kit/choose";
import { Field } from "../../kit/controls";

export type Settings = Console["ApiSettings"];
export type First = Console["ApiIn"]["state"];

/** Whether a new version answers calls at once. */
export function FirstState({ state, onChange }: { state: First; onChange: (state: First) => void }) {
  return (
    <div className="w-72">
      <Choose
        label="It answers calls"
        value={state}
        choices={[
          ["live", "at once"],
          ["draft", "not yet: a draft nobody can call"],
        ]}
        onChange={onChange}
      />
    </div>
  );
}

/** Where an API version answers, what picks it, and which back ends it asks. */
export function ApiFields({ typed, onChange }: { typed: Settings; onChange: (typed: Settings) => void }) {
  const set = (part: Partial<Settings>) => onChange({ ...typed, ...part });
  return (
    <>
      <div className="grid grid-cols-[2fr_1fr_2fr] gap-x-6">
        <Field label="Name" required value={typed.name} onChange={(name) => set({ name })} />
        <Field label="Version" required value={typed.version} onChange={(version) => set({ version })} />
        <Field
          label="Answers under"
          required
          placeholder="/tides/v1"
          value={typed.base_path}
          onChange={(base_path) => set({ base_path })}
        />
      </div>
      <div className="grid grid-cols-[3fr_2fr] gap-x-6">
        <Field
          label="Back-end address"
          required
          placeholder="http://127.0.0.1:8402/tides"
          value={typed.back_end_url}
          onChange={(back_end_url) => set({ back_end_url })}
          hint="A name and password, as in https://name:password@…, are sealed; https://@… forgets them."
        />
        <Field
          label="The back end takes, calls a second"
          inputMode="numeric"
          value={typed.capacity_per_second == null ? "" : String(typed.capacity_per_second)}
          onChange={(value) => set({ capacity_per_second: /^\d+$/.test(value) ? Number(value) : null })}
        />
      </div>
      <div className="grid grid-cols-[3fr_2fr] gap-x-6">
        <Field
          label="Back-end address of the sandbox"
          placeholder="none: there is no sandbox"
          value={typed.sandbox_url}
          onChange={(sandbox_url) => set({ sandbox_url })}
        />
        <Field
          label="Path that tells whether it is well"
          placeholder="/health"
          value={typed.health_path}
          onChange={(health_path) => set({ health_path })}
        />
      </div>
      <div className="grid grid-cols-3 gap-x-6">
        <Choose
          label="Calls find this version by"
          value={typed.chosen_by}
          choices={[
            ["path", "the path alone"],
            ["header", "a header of the call"],
            ["host", "the host they call"],
          ]}
          onChange={(chosen_by) => set({ chosen_by })}
        />
        {typed.chosen_by === "header" && (
          <Field
            label="Header"
            required
            placeholder="API-Version"
            value={typed.chosen_name}
            onChange={(chosen_name) => set({ chosen_name })}
          />
        )}
        {typed.chosen_by !== "path" && (
          <Field
            label={typed.chosen_by === "header" ? "that says" : "Host"}
            required
            value={typed.chosen_value}
            onChange={(chosen_value) => set({ chosen_value })}
          />
        )}
      </div>
      <Field label="What it is" value={typed.description} onChange={(description) => set({ description })} />
    </>
  );
}
