import { useMemo } from "react";
import { textual, useChart } from "../../parts/chart";
import { count } from "../../parts/numbers";

/** RateChart is the last minute's events a second. */
export function RateChart({ rates }: { rates: number[] }) {
  const data = useMemo(() => [rates.map((_, i) => i - rates.length), rates] as [number[], number[]], [rates]);
  const box = useChart(76, data, "", (colour) => ({
    padding: [8, 0, 8, 0],
    scales: { x: { time: false }, y: { range: (_u, _low, high) => [0, Math.max(high * 1.1, 5)] } },
    axes: [
      { show: false },
      { ...textual(colour), size: 44, splits: (_u, _axis, _low, high) => [0, Math.floor(high)], values: (_u, at) => at.map(count), grid: { stroke: colour("--bs-border-color"), width: 1 } },
    ],
    series: [{}, { stroke: colour("--rill-accent"), fill: colour("--rill-accent-soft"), width: 1.5, points: { show: false } }],
  }));
  const most = rates.length ? Math.max(...rates) : 0;
  return <div ref={box} className="rate-chart" role="img" aria-label={`Events a second over the last minute; most ${count(most)}`} />;
}
