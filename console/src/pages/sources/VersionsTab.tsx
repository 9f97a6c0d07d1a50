import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Form, Table } from "react-bootstrap";
import { answered, api } from "../../api/client";
import type { ColumnDiff, SchemaVersion } from "../../api/types";
import { localMoment } from "../../parts/numbers";
import { Trouble } from "../../parts/Trouble";

/** VersionsTab puts two versions of a table's schema side by side. */
export function VersionsTab({ name, changed }: { name: string; changed: string }) {
  const { data, error } = useQuery({
    queryKey: ["schemas", name, changed],
    queryFn: () => answered(api.GET("/v1/schemas", { params: { query: { source: name } } })),
    placeholderData: (previous) => previous,
  });
  const tables = useMemo(() => {
    const byTable = new Map<string, SchemaVersion[]>();
    for (const v of data?.items ?? []) {
      byTable.set(v.table, [...(byTable.get(v.table) ?? []), v]);
    }
    return byTable;
  }, [data]);
  const [chosen, setChosen] = useState("");
  const [pair, setPair] = useState<{ from?: string; to?: string }>({});
  const changedMost = [...tables.entries()].sort((a, b) => b[1].length - a[1].length)[0]?.[0];
  const table = tables.has(chosen) ? chosen : changedMost;
  const versions = (table && tables.get(table)) || [];
  const to = versions.find((v) => v.fingerprint === pair.to) ?? versions.at(-1);
  const from = versions.find((v) => v.fingerprint === pair.from) ?? versions.at(-2) ?? to;
  const choice = (v: SchemaVersion) => (
    <option key={v.fingerprint} value={v.fingerprint}>
      {v.fingerprint}
      {v.first_seen && `, since ${localMoment(v.first_seen)}`}
    </option>
  );
  if (data && tables.size === 0) {
    return <p className="note">A version is there once a table has an event.</p>;
  }
  return (
    <section aria-label="Schema versions">
      <Trouble error={error} />
      <div className="version-choice">
        <Form.Group controlId="version-table">
          <Form.Label>Table</Form.Label>
          <Form.Select size="sm" value={table ?? ""} onChange={(e) => (setChosen(e.target.value), setPair({}))}>
            {[...tables.entries()].map(([t, vs]) => (
              <option key={t} value={t}>
                {t} ({vs.length} {vs.length === 1 ? "version" : "versions"})
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="version-from">
          <Form.Label>From</Form.Label>
          <Form.Select size="sm" value={from?.fingerprint ?? ""} onChange={(e) => setPair({ ...pair, from: e.target.value })}>
            {versions.map(choice)}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="version-to">
          <Form.Label>To</Form.Label>
          <Form.Select size="sm" value={to?.fingerprint ?? ""} onChange={(e) => setPair({ ...pair, to: e.target.value })}>
            {versions.map(choice)}
          </Form.Select>
        </Form.Group>
        {to && (
          <span className="links">
            <a href={`/v1/schemas/${to.fingerprint}`}>JSON Schema</a> <a href={`/v1/schemas/${to.fingerprint}?form=avro`}>Avro</a>
          </span>
        )}
      </div>
      {from && to && <SideBySide from={from.fingerprint} to={to.fingerprint} />}
    </section>
  );
}

function SideBySide({ from, to }: { from: string; to: string }) {
  const { data, error } = useQuery({
    queryKey: ["diff", from, to],
    queryFn: () => answered(api.GET("/v1/schemas/{fingerprint}/diff", { params: { path: { fingerprint: to }, query: { from } } })),
    placeholderData: (previous) => previous,
  });
  return (
    <div className="table-scroll" tabIndex={0} role="region" aria-label="Columns of both versions">
      <Trouble error={error} />
      <Table size="sm" className="counts diff">
        <thead>
          <tr>
            <th scope="col">column</th>
            <th scope="col">before</th>
            <th scope="col">after</th>
            <th scope="col">what changed</th>
          </tr>
        </thead>
        <tbody>
          {data?.items.map((d) => (
            <tr key={d.name + d.what} className={`diff-${d.what}`}>
              <th scope="row">{d.name}</th>
              <td>{d.before ? describe(d.before) : <span className="none">–</span>}</td>
              <td>{d.after ? describe(d.after) : <span className="none">–</span>}</td>
              <td>{d.what === "same" ? "" : (d.says ?? d.what)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}

function describe(column: NonNullable<ColumnDiff["before"]>): string {
  return [column.treatment ? `${column.type} (${column.treatment})` : column.type, column.nullable ? "" : "not null", column.key ? `key ${column.key}` : ""].filter(Boolean).join(", ");
}
