import { useEffect, useRef, useState } from "react";
import type uPlot from "uplot";

/** Colour is a custom property's value where the chart stands, asked for again at
 * each drawing, since the theme may change. */
export type Colour = (property: string) => () => string;

/** textual is what all axes have in common. */
export const textual = (colour: Colour): uPlot.Axis => ({ stroke: colour("--bs-secondary-color"), font: "11px system-ui", ticks: { show: false } });

/** hovering calls with the index of the point under the pointer, null where there is none. */
export const hovering = (at: (index: number | null) => void): Pick<uPlot.Options, "cursor" | "hooks"> => ({
  cursor: { y: false, drag: { x: false, y: false }, points: { size: 6 } },
  hooks: { setCursor: [(u) => at(u.cursor.left != null && u.cursor.left >= 0 ? (u.cursor.idx ?? null) : null)] },
});

type Drawing = Omit<uPlot.Options, "width" | "height">;

/** useChart draws data into a box that it gives, as wide as that is. What options
 * says counts until look changes. The library that draws is fetched after the page. */
export function useChart(height: number, data: uPlot.AlignedData, look: string, options: (colour: Colour) => Drawing) {
  const box = useRef<HTMLDivElement>(null);
  const [chart, setChart] = useState<uPlot | null>(null);
  const made = useRef(options);
  made.current = options;
  useEffect(() => {
    const element = box.current!;
    const colour: Colour = (name) => () => getComputedStyle(element).getPropertyValue(name).trim();
    let drawn: uPlot | null = null;
    let gone = false;
    const observer = new ResizeObserver(() => drawn?.setSize({ width: element.clientWidth, height }));
    import("./uplot").then(({ default: Plot }) => {
      if (gone) return;
      const drawing = made.current(colour);
      drawn = new Plot({ width: element.clientWidth, height, legend: { show: false }, ...drawing }, drawing.series.map(() => []) as unknown as uPlot.AlignedData, element);
      observer.observe(element);
      setChart(drawn);
    });
    return () => {
      gone = true;
      observer.disconnect();
      drawn?.destroy();
      setChart(null);
    };
  }, [height, look]);
  useEffect(() => {
    chart?.setData(data);
  }, [chart, data]);
  return box;
}
