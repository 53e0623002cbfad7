import { useQueries, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Console } from "../../api/console";
import { allApis, operations } from "../../api/queries/compose";
import { Refusal, Trouble, Waiting } from "../../kit/controls";
import { plural } from "../../kit/format";

type Operation = Console["OperationView"];
type Props = {
  chosen: number[];
  onChange: (chosen: number[]) => void;
  disabled?: boolean;
};

/** All operations of all APIs. Until they are `read`, whatever stands below them will yet move. */
export function useAllOperations() {
  const list = useQuery(allApis());
  const versions = (list.data?.rows ?? []).filter((v) => v.state !== "gone");
  const pages = useQueries({
    queries: versions.map((one) => operations(one.id, { limit: 2000 })),
  });
  const read = !list.isPending && pages.every((page) => !page.isPending);
  const failed = list.error ?? pages.find((page) => page.error)?.error ?? null;
  return { list, versions, pages, read, failed };
}

/** They are there to choose from singly or by the group. */
export function ChooseOperations({ chosen, onChange, disabled, error }: Props & { error?: string }) {
  const { list, versions, pages, read, failed } = useAllOperations();
  if (!read) return <Waiting words="Reading the operations" />;
  return (
    <div>
      <Trouble error={failed} />
      {versions.map((version, n) => (
        <Version
          key={version.id}
          name={`${version.name} ${version.version}`}
          operations={pages[n]?.data?.operations ?? []}
          chosen={chosen}
          disabled={disabled}
          onChange={onChange}
        />
      ))}
      {list.data?.total === 0 && (
        <p className="text-soft">There is no API yet whose operations could be chosen.</p>
      )}
      {error && <Refusal>{error}</Refusal>}
    </div>
  );
}

function Version({
  name,
  operations,
  chosen,
  disabled,
  onChange,
}: Props & { name: string; operations: Operation[] }) {
  const here = new Set(operations.map((o) => o.id));
  const count = chosen.filter((id) => here.has(id)).length;
  const groups = new Map<string, Operation[]>();
  for (const o of operations) {
    const group = o.groups[0] ?? "";
    groups.set(group, [...(groups.get(group) ?? []), o]);
  }
  const put = (ids: number[], on: boolean) =>
    onChange([...chosen.filter((id) => !ids.includes(id)), ...(on ? ids : [])]);
  return (
    <fieldset className="mb-3" disabled={disabled}>
      <legend className="text-[13px] text-soft">{name}</legend>
      {[...groups].map(([group, members]) => (
        <Group
          key={group}
          name={groups.size === 1 && !group ? "" : group || "in no group"}
          members={members}
          chosen={chosen}
          folded={operations.length > 40}
          onPut={put}
        />
      ))}
      {operations.length > 40 && (
        <p className="text-[12px] text-soft">{plural(count, "operation")} chosen here</p>
      )}
    </fieldset>
  );
}

function Group({
  name,
  members,
  chosen,
  folded,
  onPut,
}: {
  name: string;
  members: Operation[];
  chosen: number[];
  folded: boolean;
  onPut: (ids: number[], on: boolean) => void;
}) {
  const [open, setOpen] = useState(!folded);
  const ids = members.map((o) => o.id);
  const all = ids.every((id) => chosen.includes(id));
  return (
    <>
      {name && (
        <div className="flex items-baseline gap-2.5 border-b border-line-soft py-1">
          <input
            type="checkbox"
            aria-label={`Every operation of ${name}`}
            className="accent-(--color-kelp)"
            checked={all}
            onChange={() => onPut(ids, !all)}
          />
          <button
            type="button"
            className="font-serif text-[15px]"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
          >
            {name}
          </button>
          <span className="text-[12px] text-soft">
            {ids.filter((id) => chosen.includes(id)).length} of {ids.length}
          </span>
        </div>
      )}
      {open &&
        members.map((o) => (
          <label
            key={o.id}
            className={`flex items-baseline gap-2.5 border-b border-line-soft py-1 ${name ? "pl-6" : ""}`}
          >
            <input
              type="checkbox"
              className="accent-(--color-kelp)"
              checked={chosen.includes(o.id)}
              onChange={() => onPut([o.id], !chosen.includes(o.id))}
            />
            <span>
              {o.method} {o.path}
            </span>
            <span className="text-soft">{o.summary}</span>
          </label>
        ))}
    </>
  );
}
