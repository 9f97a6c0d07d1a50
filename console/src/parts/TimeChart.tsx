import { useMemo, useRef, useState } from "react";
import type uPlot from "uplot";
import { hovering, textual, useChart } from "./chart";
import { roundTop } from "./scale";

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
  /** least is the smallest top of the axis. */
  least?: number;
}

/** TimeChart draws lines over time. In its title stands the value of each under the
 * pointer, else the newest one. */
export function TimeChart({ title, times, lines, format, least = 1 }: Charted) {
  const [under, setUnder] = useState<number | null>(null);
  const shown = useRef(format);
  shown.current = format;
  const data = useMemo(() => [times, ...lines.map((line) => line.values)] as uPlot.AlignedData, [times, lines]);
  const looks = lines.map((line) => line.look);
  const box = useChart(120, data, looks.join(), (colour) => ({
    ...hovering(setUnder),
    padding: [8, 18, 0, 0],
    scales: { y: { range: (_u, _low, high) => [0, roundTop(high, least)] } },
    axes: [
      { ...textual(colour), size: 24, grid: { show: false }, values: (_u, at) => at.map((s) => clock.format(new Date(s * 1000))) },
      {
        ...textual(colour),
        size: 62,
        splits: (_u, _axis, _low, high) => [0, high / 2, high],
        values: (_u, at) => at.map((v) => shown.current(v)),
        grid: { stroke: colour("--bs-border-color"), width: 1 },
      },
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
  const moment = under === null ? undefined : times[under];
  const shownValue = (line: Line) => {
    const value = moment === undefined || under === null ? line.values.findLast((v) => v !== null) : line.values[under];
    return value === null ? "none" : format(value ?? 0);
  };
  return (
    <figure className="time-chart">
      <figcaption>
        <strong>{title}</strong>
        {lines.map((line) => (
          <span key={line.name} className={`chart-key ${line.look}`}>
            {line.name} {shownValue(line)}
          </span>
        ))}
        {moment !== undefined && <time className="chart-time">{second.format(new Date(moment * 1000))}</time>}
      </figcaption>
      <div ref={box} role="img" aria-label={`${title}; now ${newest}`} />
    </figure>
  );
}

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const second = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });
