import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { count } from "../../parts/numbers";

const height = 76;

/** RateChart is the last minute's events a second. */
export function RateChart({ rates }: { rates: number[] }) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<uPlot | null>(null);
  useEffect(() => {
    const element = box.current!;
    const colour = (name: string) => () => getComputedStyle(element).getPropertyValue(name).trim();
    chart.current = new uPlot(
      {
        width: element.clientWidth,
        height,
        legend: { show: false },
        cursor: { show: false },
        padding: [8, 0, 8, 0],
        scales: { x: { time: false }, y: { range: (_u, _low, high) => [0, Math.max(high * 1.1, 5)] } },
        axes: [
          { show: false },
          { size: 44, stroke: colour("--bs-secondary-color"), font: "11px system-ui", ticks: { show: false }, splits: (_u, _axis, _low, high) => [0, Math.floor(high)], values: (_u, at) => at.map(count), grid: { stroke: colour("--bs-border-color"), width: 1 } },
        ],
        series: [{}, { stroke: colour("--rill-accent"), fill: colour("--rill-accent-soft"), width: 1.5, points: { show: false } }],
      },
      [[], []],
      element,
    );
    const observer = new ResizeObserver(() => chart.current?.setSize({ width: element.clientWidth, height }));
    observer.observe(element);
    return () => {
      observer.disconnect();
      chart.current?.destroy();
    };
  }, []);
  useEffect(() => {
    chart.current?.setData([rates.map((_, i) => i - rates.length), rates]);
  }, [rates]);
  const most = rates.length ? Math.max(...rates) : 0;
  return <div ref={box} className="rate-chart" role="img" aria-label={`Events a second over the last minute; most ${count(most)}`} />;
}
