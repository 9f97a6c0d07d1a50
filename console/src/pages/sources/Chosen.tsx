import { useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import { Table } from "react-bootstrap";
import { answered, api } from "../../api/client";
import type { SourceDefinition } from "../../api/types";
import { count } from "../../parts/numbers";
import { StateMark } from "../../parts/StateMark";
import { Trouble } from "../../parts/Trouble";

/** Chosen is what a definition's rules choose of the database's tables. */
export function Chosen({ name, definition }: { name: string; definition: SourceDefinition }) {
  const deferred = useDeferredValue(definition);
  const { data, error, isFetching } = useQuery({
    queryKey: ["chosen", name, JSON.stringify(deferred)],
    queryFn: () => answered(api.POST("/v1/sources/{name}/tables", { params: { path: { name } }, body: deferred })),
    placeholderData: (previous) => previous,
    retry: false,
  });
  const chosen = data?.items.filter((t) => t.captured).length ?? 0;
  return (
    <section aria-label="What the rules choose" aria-busy={isFetching}>
      <h2>{data ? `${chosen} of ${data.items.length} tables are chosen` : "Looking …"}</h2>
      <Trouble error={error} />
      {data && (
        <div className="table-scroll chosen" tabIndex={0} role="region" aria-label="Tables of the database">
          <Table size="sm" className="counts">
            <thead>
              <tr>
                <th scope="col">table</th>
                <th scope="col">captured</th>
                <th scope="col">key</th>
                <th scope="col" className="number">
                  rows (est.)
                </th>
                <th scope="col">columns</th>
                <th scope="col">to know</th>
              </tr>
            </thead>
            <tbody>
              {data.items.map((t) => (
                <tr key={t.name} className={t.captured ? undefined : "left-out"}>
                  <th scope="row">{t.name}</th>
                  <td>
                    <StateMark
                      state={t.captured ? (t.inserts_only ? "note" : "good") : "left-out"}
                      word={t.captured ? (t.inserts_only ? "inserts only" : t.captured_as ? `as ${t.captured_as}` : "yes") : "no"}
                    />
                  </td>
                  <td>{t.key?.join(", ") || <span className="none">–</span>}</td>
                  <td className="number">{count(t.rows_estimate)}</td>
                  <td className="columns-cell" title={t.columns?.map((c) => `${c.name} ${c.type}`).join("\n")}>
                    {t.columns?.map((c) => c.name).join(", ")}
                  </td>
                  <td className="note-cell" title={t.cannot_publish ?? t.advice}>
                    {t.cannot_publish ?? t.advice}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </section>
  );
}
