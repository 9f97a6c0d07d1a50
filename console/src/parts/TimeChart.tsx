import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

export interface Line {
  name: string;
  /** accent draws a filled line in the accent, quiet a dashed one. */
  look: "accent" | "quiet";
  values: (number | null)[];
}

interface Charted {
  title: string;
  /** times are seconds since 1970. */
  times: number[];
  lines: Line[];
  format: (value: number) => string;
}

const height = 120;

/** TimeChart draws lines over time; the newest value of each stands in its title. */
export function TimeChart({ title, times, lines, format }: Charted) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<uPlot | null>(null);
  const shown = useRef(format);
  shown.current = format;
  const looks = lines.map((line) => line.look).join();
  useEffect(() => {
    const element = box.current!;
    const colour = (name: string) => () => getComputedStyle(element).getPropertyValue(name).trim();
    chart.current = new uPlot(
      {
        width: element.clientWidth,
        height,
        legend: { show: false },
        cursor: { show: false },
        padding: [8, 18, 0, 0],
        scales: { y: { range: (_u, _low, high) => [0, high > 0 ? high * 1.15 : 1] } },
        axes: [
          { size: 24, stroke: colour("--bs-secondary-color"), font: "11px system-ui", ticks: { show: false }, grid: { show: false }, values: (_u, at) => at.map((s) => clock.format(new Date(s * 1000))) },
          { size: 62, stroke: colour("--bs-secondary-color"), font: "11px system-ui", ticks: { show: false }, splits: (_u, _axis, _low, high) => [0, high / 1.15], values: (_u, at) => at.map((v) => shown.current(v)), grid: { stroke: colour("--bs-border-color"), width: 1 } },
        ],
        series: [
          {},
          ...looks.split(",").map((look): uPlot.Series => ({
            stroke: colour(look === "accent" ? "--rill-accent" : "--bs-secondary-color"),
            fill: look === "accent" ? colour("--rill-accent-soft") : undefined,
            dash: look === "accent" ? undefined : [4, 3],
            width: 1.5,
            points: { show: false },
          })),
        ],
      },
      [[], ...looks.split(",").map(() => [])],
      element,
    );
    const observer = new ResizeObserver(() => chart.current?.setSize({ width: element.clientWidth, height }));
    observer.observe(element);
    return () => {
      observer.disconnect();
      chart.current?.destroy();
    };
  }, [looks]);
  useEffect(() => {
    chart.current?.setData([times, ...lines.map((line) => line.values)]);
  }, [times, lines]);
  const newest = lines.map((line) => `${line.name} ${format(line.values.findLast((v) => v !== null) ?? 0)}`).join(", ");
  return (
    <figure className="time-chart">
      <figcaption>
        <strong>{title}</strong>
        {lines.map((line) => (
          <span key={line.name} className={`chart-key ${line.look}`}>
            {line.name} {format(line.values.findLast((v) => v !== null) ?? 0)}
          </span>
        ))}
      </figcaption>
      <div ref={box} role="img" aria-label={`${title} over the last hour; now ${newest}`} />
    </figure>
  );
}

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
