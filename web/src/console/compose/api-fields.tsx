import type { Console } from "../../api/console";
import { Choice, Line } from "../../kit/fields";
import { useTyped } from "../../kit/form";

export type Settings = Console["ApiSettings"];
export type First = Console["ApiIn"]["state"];

/** Whether a new version answers calls at once. */
export function FirstState() {
  return (
    <div className="w-72">
      <Choice
        name="state"
        label="It answers calls"
        choices={[
          ["live", "at once"],
          ["draft", "not yet: a draft nobody can call"],
        ]}
      />
    </div>
  );
}

/** Where an API version answers, what picks it, and which back ends it asks. */
export function ApiFields() {
  const { chosen_by } = useTyped<Settings>();
  return (
    <>
      <div className="grid grid-cols-[2fr_1fr_2fr] gap-x-6">
        <Line name="name" label="Name" required />
        <Line name="version" label="Version" required />
        <Line name="base_path" label="Answers under" required placeholder="/tides/v1" />
      </div>
      <div className="grid grid-cols-[3fr_2fr] gap-x-6">
        <Line
          name="back_end_url"
          label="Back-end address"
          required
          placeholder="http://127.0.0.1:8402/tides"
          hint="A name and password, as in https://name:password@…, are sealed; https://@… forgets them."
        />
        <Line<number | null>
          name="capacity_per_second"
          label="The back end takes, calls a second"
          inputMode="numeric"
          kept={(text) => (/^\d+$/.test(text) ? Number(text) : null)}
        />
      </div>
      <div className="grid grid-cols-[3fr_2fr] gap-x-6">
        <Line
          name="sandbox_url"
          label="Back-end address of the sandbox"
          placeholder="none: there is no sandbox"
        />
        <Line name="health_path" label="Path that tells whether it is well" placeholder="/health" />
      </div>
      <div className="grid grid-cols-3 gap-x-6">
        <Choice
          name="chosen_by"
          label="Calls find this version by"
          choices={[
            ["path", "the path alone"],
            ["header", "a header of the call"],
            ["host", "the host they call"],
          ]}
        />
        {chosen_by === "header" && (
          <Line name="chosen_name" label="Header" required placeholder="API-Version" />
        )}
        {chosen_by !== "path" && (
          <Line name="chosen_value" label={chosen_by === "header" ? "that says" : "Host"} required />
        )}
      </div>
      <Line name="description" label="What it is" />
    </>
  );
}
