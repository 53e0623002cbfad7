/** A JSON value that unfolds: objects and lists open to their parts. */
export function Tree({ value, name, depth = 0 }: { value: unknown; name?: string; depth?: number }) {
  const called = name !== undefined && <span className="text-(--portal-soft)">{name}: </span>;
  if (value === null || typeof value !== "object") {
    return (
      <div className="break-all">
        {called}
        {JSON.stringify(value)}
      </div>
    );
  }
  const parts = Object.entries(value);
  const what = Array.isArray(value) ? `list of ${parts.length}` : "object";
  if (parts.length === 0) {
    return (
      <div>
        {called}
        <span className="text-soft">{what === "object" ? "an empty object" : "an empty list"}</span>
      </div>
    );
  }
  return (
    <details open={depth < 2 || parts.length <= 4}>
      <summary className="cursor-pointer">
        {called}
        <span className="text-soft">{what}</span>
      </summary>
      <div className="ml-1 border-l border-(--portal-line) pl-3.5">
        {parts.slice(0, MOST).map(([key, part]) => (
          <Tree key={key} name={key} value={part} depth={depth + 1} />
        ))}
        {parts.length > MOST && <div className="text-soft">… and {parts.length - MOST} more</div>}
      </div>
    </details>
  );
}

const MOST = 100;
