import type { Portal } from "../../api/portal";
import { WordButton } from "../../kit/controls";
import { Prose } from "../../kit/prose";
import { chosen } from "./files";
import { begun, filesOf, isBytes, isForm, isJson, isMultipart, keyOf, parsed, type Values } from "./request";

type Operation = Portal["OperationView"];
type Parameter = Portal["Parameter"];

/** What can be filled in of a call. */
export function Fill({
  one,
  values,
  onChange,
}: {
  one: Operation;
  values: Values;
  onChange: React.Dispatch<React.SetStateAction<Values>>;
}) {
  const said = one.described;
  const set = (key: string, value: string) =>
    onChange({ ...values, parameters: { ...values.parameters, [key]: value } });
  const bodies = said?.bodies ?? [];
  return (
    <>
      {said?.parameters.map((parameter) => (
        <One
          key={keyOf(parameter)}
          of={parameter}
          value={values.parameters[keyOf(parameter)] ?? ""}
          onChange={(value) => set(keyOf(parameter), value)}
        />
      ))}
      {bodies.length > 0 && !isBytes(values.media) && (
        <div className="mb-3">
          <label className="block text-[13px] text-soft">
            Body, {values.media}
            {(isForm(values.media) || isMultipart(values.media)) &&
              ": each name and value of this object as a field"}
            {said?.body_required && <b className="ml-2 font-semibold text-ink">required</b>}
            <textarea
              className="field resize-y font-mono text-[12.5px] text-ink"
              spellCheck={false}
              rows={Math.min(14, values.body.split("\n").length + 1)}
              value={values.body}
              onChange={(e) => onChange({ ...values, body: e.target.value })}
            />
          </label>
          <p className="flex flex-wrap gap-x-4 text-[13px] text-soft">
            <WordButton onClick={() => onChange({ ...values, body: begun(one).body })}>
              the example again
            </WordButton>
            {(isJson(values.media) || isMultipart(values.media)) &&
              values.body.trim() !== "" &&
              parsed(values.body) === null && (
                <span role="status">
                  This is no JSON object; it is {isMultipart(values.media) ? "left out" : "sent as it stands"}
                  .
                </span>
              )}
          </p>
        </div>
      )}
      {filesOf(one, values.media).map((name) => (
        <OneFile
          key={name}
          label={name === "" ? `The body, a file of ${values.media}` : name}
          required={
            name === ""
              ? Boolean(said?.body_required)
              : Boolean(
                  bodies
                    .find((b) => b.media_type === values.media)
                    ?.schema?.parts.find((p) => p.name === name)?.required,
                )
          }
          onChoose={async (file) => {
            const read = file && (await chosen(file));
            onChange((now) => {
              const { [name]: _, ...others } = now.files;
              return { ...now, files: read ? { ...others, [name]: read } : others };
            });
          }}
        />
      ))}
    </>
  );
}

/** A file that goes with a call. */
function OneFile({
  label,
  required,
  onChoose,
}: {
  label: string;
  required: boolean;
  onChoose: (file: File | undefined) => void;
}) {
  return (
    <label className="mb-3 block text-[13px] text-soft">
      <code className="font-mono text-ink">{label}</code>
      {required && <b className="ml-2 font-semibold text-ink">required</b>}
      <input
        type="file"
        className="mt-1 block w-full text-[13px] text-ink"
        onChange={(e) => onChoose(e.target.files?.[0])}
      />
    </label>
  );
}

function One({ of, value, onChange }: { of: Parameter; value: string; onChange: (value: string) => void }) {
  const { name, type, required, choices, description } = of.value;
  const offered = type.startsWith("boolean") ? ["true", "false"] : choices;
  const id = `fill-${keyOf(of)}`;
  const examples = [...new Set([of.value.example, of.value.default, of.sample])].filter(Boolean) as string[];
  const told = {
    id,
    value,
    required,
    className: "field",
    onChange: (e: { target: { value: string } }) => onChange(e.target.value),
  };
  return (
    <div className="mb-3">
      <label htmlFor={id} className="block text-[13px] text-soft">
        <code className="font-mono text-ink">{name}</code> {type}
        {of.place !== "path" && `, in the ${of.place}`}
        {of.repeats && ", several with commas"}
        {required && <b className="ml-2 font-semibold text-ink">required</b>}
      </label>
      {offered.length > 0 && !of.repeats ? (
        <select {...told}>
          {(!required || !offered.includes(value)) && <option value="">nothing</option>}
          {offered.map((one) => (
            <option key={one}>{one}</option>
          ))}
        </select>
      ) : (
        <>
          <input
            {...told}
            list={`${id}-examples`}
            inputMode={/^(integer|number)/.test(type) ? "decimal" : undefined}
            placeholder={of.value.default !== null ? `${of.value.default} where nothing is said` : undefined}
            autoComplete="off"
          />
          <datalist id={`${id}-examples`}>
            {examples.map((one) => (
              <option key={one} value={one} />
            ))}
          </datalist>
        </>
      )}
      {description && (
        <div className="text-[12.5px] text-soft [&_p]:m-0">
          <Prose html={description} />
        </div>
      )}
    </div>
  );
}
