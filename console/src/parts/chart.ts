import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

/** Colour is a custom property's value where the chart stands, asked for again at
 * each drawing, since the theme may change. */
export type Colour = (property: string) => () => string;

/** textual is what all axes have in common. */
export const textual = (colour: Colour): uPlot.Axis => ({ stroke: colour("--bs-secondary-color"), font: "11px system-ui", ticks: { show: false } });

/** useChart draws data into a box that it gives, as wide as that is. What options
 * says counts until look changes. */
export function useChart(height: number, data: uPlot.AlignedData, look: string, options: (colour: Colour) => Omit<uPlot.Options, "width" | "height">) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<uPlot | null>(null);
  const made = useRef(options);
  made.current = options;
  useEffect(() => {
    const element = box.current!;
    const colour: Colour = (name) => () => getComputedStyle(element).getPropertyValue(name).trim();
    const drawn = made.current(colour);
    chart.current = new uPlot({ width: element.clientWidth, height, legend: { show: false }, cursor: { show: false }, ...drawn }, drawn.series.map(() => []) as unknown as uPlot.AlignedData, element);
    const observer = new ResizeObserver(() => chart.current?.setSize({ width: element.clientWidth, height }));
    observer.observe(element);
    return () => {
      observer.disconnect();
      chart.current?.destroy();
    };
  }, [height, look]);
  useEffect(() => {
    chart.current?.setData(data);
  }, [data]);
  return box;
}
