import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Table } from "react-bootstrap";
import { answered, api } from "../../api/client";
import { useSourceStatus } from "../../api/status";
import type { OutletHistory, OutletStatus } from "../../api/types";
import { count, localMoment, rate, span } from "../../parts/numbers";
import { Period } from "../../parts/Period";
import { TimeChart } from "../../parts/TimeChart";
import { Trouble } from "../../parts/Trouble";
import { FlowTable } from "./FlowTable";

const step = 10;
const fewest = 60;

/** NowTab is an outlet's last hour, and what it has delivered, beside what the
 * journal has read. */
export function NowTab({ outlet }: { outlet: OutletStatus }) {
  const { data, error } = useQuery({
    queryKey: ["history", outlet.name],
    queryFn: () => answered(api.GET("/v1/outlets/{name}/history", { params: { path: { name: outlet.name } } })),
    refetchInterval: step * 1000, // each step of time brings a point, also where nothing happens
    placeholderData: (before) => before,
  });
  const source = useSourceStatus(outlet.source);
  const [minutes, setMinutes] = useState(60);
  const charts = useMemo(() => chartsOf(data, (minutes * 60) / step), [data, minutes]);
  const counts = useMemo(() => byTable(data?.counts ?? []), [data]);
  const tables = source?.tables ?? [];
  return (
    <>
      <Trouble error={error} />
      {outlet.destination && (
        <>
          <Period value={minutes} onChange={setMinutes} />
          <div className="charts">
            <TimeChart title="Events a second" times={charts.times} lines={charts.rates} format={rate} />
            <TimeChart title="Behind" times={charts.times} lines={charts.behind} format={(n) => count(Math.round(n))} />
            <TimeChart title="Commit to delivery" times={charts.times} lines={charts.delay} format={span} least={0.01} />
          </div>
        </>
      )}
      {data?.lost.map((l) => (
        <p key={l.first} className="trouble">
          Offsets {count(l.first)} to {count(l.last)} were not delivered: retention took them at {localMoment(l.at)}.
        </p>
      ))}
      {outlet.destination && <FlowTable outlet={outlet} minutes={minutes} />}
      {counts.rows.length > 0 && (
        <div className="table-scroll" tabIndex={0} role="region" aria-label="Counts by table">
          <Table size="sm" className="counts">
            <caption>Delivered since the service started, of what is in the journal</caption>
            <thead>
              <tr>
                <th scope="col">table</th>
                {counts.operations.map((o) => (
                  <th key={o} scope="col" className="number">
                    {o}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {counts.rows.map((row) => (
                <tr key={row.table}>
                  <th scope="row">{row.table || "–"}</th>
                  {counts.operations.map((o) => {
                    const delivered = row.counts.get(o);
                    const journaled = tables.find((t) => t.name === row.table)?.counts[o];
                    return (
                      <td key={o} className="number">
                        {delivered === undefined ? "–" : count(delivered)}
                        {journaled !== undefined && <span className="of"> of {count(journaled)}</span>}
                      </td>
                    );
                  })}
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {!outlet.destination && (
        <p className="note">
          Its consumers read: <code>rillmark read {outlet.name}</code>, or <code>GET /v1/outlets/{outlet.name}/stream</code>.
        </p>
      )}
    </>
  );
}

const order = ["existing", "insert", "update", "delete", "truncate", "schema", "loaded", "void"];

/** byTable turns counts by type into a row a table, a column an operation. */
function byTable(counts: OutletHistory["counts"]) {
  const operations: string[] = [];
  const rows: { table: string; counts: Map<string, number> }[] = [];
  for (const c of counts) {
    const operation = c.type.split(".").slice(2).join(" ");
    if (!operations.includes(operation)) operations.push(operation);
    let row = rows.find((r) => r.table === c.table);
    if (!row) rows.push((row = { table: c.table, counts: new Map() }));
    row.counts.set(operation, (row.counts.get(operation) ?? 0) + c.count);
  }
  const place = (o: string) => (order.includes(o) ? order.indexOf(o) : order.length);
  operations.sort((a, b) => place(a) - place(b));
  return { operations, rows };
}

/** chartsOf fills the steps in which nothing happened. */
function chartsOf(history: OutletHistory | undefined, steps: number) {
  const end = Math.floor(Date.now() / 1000 / step) * step;
  const at = new Map((history?.points ?? []).map((p) => [Math.floor(new Date(p.at).getTime() / 1000), p]));
  const first = history?.points[0] ? Math.floor(new Date(history.points[0].at).getTime() / 1000) : end;
  // A service that has just started shows its first minutes, not an empty hour.
  const length = Math.min(steps, Math.max(fewest, (end - first) / step + 1));
  const times = Array.from({ length }, (_, i) => end - (length - 1 - i) * step);
  const over = (of: (p: NonNullable<ReturnType<typeof at.get>>) => number, idle: number | null) => times.map((t) => (t < first || t >= end ? null : at.has(t) ? of(at.get(t)!) : idle));
  return {
    times,
    rates: [
      { name: "delivered", look: "accent" as const, values: over((p) => p.delivered / step, 0) },
      { name: "read", look: "quiet" as const, values: over((p) => p.read / step, 0) },
    ],
    behind: [{ name: "events", look: "accent" as const, values: over((p) => p.behind, 0) }],
    delay: [{ name: "newest", look: "accent" as const, values: over((p) => p.delay_seconds, null) }],
  };
}
