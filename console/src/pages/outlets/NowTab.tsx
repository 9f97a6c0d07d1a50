import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Table } from "react-bootstrap";
import { getJSON } from "../../api/client";
import { useStatus } from "../../api/status";
import type { OutletHistory, OutletStatus } from "../../api/types";
import { count, localMoment, rate, span } from "../../parts/numbers";
import { TimeChart } from "../../parts/TimeChart";
import { Trouble } from "../../parts/Trouble";

const step = 10;
const steps = 360;
const fewest = 60;

/** NowTab is an outlet's last hour, and what it has delivered, beside what the
 * journal has read. */
export function NowTab({ outlet }: { outlet: OutletStatus }) {
  const { data, error } = useQuery({ queryKey: ["history", outlet.name], queryFn: () => getJSON<OutletHistory>(`/v1/outlets/${outlet.name}/history`), refetchInterval: 5000, placeholderData: (before) => before });
  const { status } = useStatus();
  const charts = useMemo(() => chartsOf(data), [data]);
  const tables = status?.sources.find((s) => s.name === outlet.source)?.tables ?? [];
  return (
    <>
      <Trouble error={error} />
      {outlet.destination && (
        <div className="charts">
          <TimeChart title="Events a second" times={charts.times} lines={charts.rates} format={rate} />
          <TimeChart title="Behind" times={charts.times} lines={charts.behind} format={(n) => count(Math.round(n))} />
          <TimeChart title="Commit to delivery" times={charts.times} lines={charts.delay} format={span} />
        </div>
      )}
      {data?.lost.map((l) => (
        <p key={l.first} className="trouble">
          Offsets {count(l.first)} to {count(l.last)} were not delivered: retention took them at {localMoment(l.at)}.
        </p>
      ))}
      {data && data.counts.length > 0 && (
        <div className="table-scroll" tabIndex={0} role="region" aria-label="Counts by table">
          <Table size="sm" className="counts">
            <thead>
              <tr>
                <th scope="col">table</th>
                <th scope="col">type</th>
                <th scope="col" className="number">
                  delivered since the service started
                </th>
                <th scope="col" className="number">
                  in the journal
                </th>
              </tr>
            </thead>
            <tbody>
              {data.counts.map((c) => {
                const journaled = tables.find((t) => t.name === c.table)?.counts[c.type.split(".")[2] ?? ""];
                return (
                  <tr key={c.table + c.type}>
                    <th scope="row">{c.table || "–"}</th>
                    <td>{c.type}</td>
                    <td className="number">{count(c.count)}</td>
                    <td className="number">{journaled === undefined ? "–" : count(journaled)}</td>
                  </tr>
                );
              })}
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

/** chartsOf fills the steps in which nothing happened. */
function chartsOf(history?: OutletHistory) {
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
