const signs: Record<string, string> = {
  existing: "M2 6h8M2 9h8M2 3h8",
  insert: "M6 2v8M2 6h8",
  update: "M2 8l4-5 4 5",
  delete: "M2 6h8",
  truncate: "M2 3h8M2 9l8 0M4 6h4",
  schema: "M2 2h8v8H2zM2 5h8",
  loaded: "M2 6l3 3 5-6",
  void: "M3 3l6 6M9 3l-6 6",
  message: "M2 3h8v5H6l-2 2V8H2z",
};

/** OperationMark tells an operation by sign and word. */
export function OperationMark({ operation }: { operation: string }) {
  return (
    <span className={`operation-mark operation-${operation}`}>
      <svg viewBox="0 0 12 12" width="11" height="11" aria-hidden="true">
        <path d={signs[operation] ?? signs.void} />
      </svg>
      {operation}
    </span>
  );
}

export const operations = ["existing", "insert", "update", "delete", "truncate", "schema", "loaded", "void", "message"];
