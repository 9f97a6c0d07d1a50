import { useMemo, useRef } from "react";
import type uPlot from "uplot";
import { textual, useChart } from "./chart";

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

/** TimeChart draws lines over time; the newest value of each stands in its title. */
export function TimeChart({ title, times, lines, format }: Charted) {
  const shown = useRef(format);
  shown.current = format;
  const data = useMemo(() => [times, ...lines.map((line) => line.values)] as uPlot.AlignedData, [times, lines]);
  const looks = lines.map((line) => line.look);
  const box = useChart(120, data, looks.join(), (colour) => ({
    padding: [8, 18, 0, 0],
    scales: { y: { range: (_u, _low, high) => [0, high > 0 ? high * 1.15 : 1] } },
    axes: [
      { ...textual(colour), size: 24, grid: { show: false }, values: (_u, at) => at.map((s) => clock.format(new Date(s * 1000))) },
      { ...textual(colour), size: 62, splits: (_u, _axis, _low, high) => [0, high / 1.15], values: (_u, at) => at.map((v) => shown.current(v)), grid: { stroke: colour("--bs-border-color"), width: 1 } },
    ],
    series: [
      {},
      ...looks.map((look): uPlot.Series => ({
        stroke: colour(look === "accent" ? "--rill-accent" : "--bs-secondary-color"),
        fill: look === "accent" ? colour("--rill-accent-soft") : undefined,
        dash: look === "accent" ? undefined : [4, 3],
        width: 1.5,
        points: { show: false },
      })),
    ],
  }));
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
