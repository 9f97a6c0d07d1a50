import { useState } from "react";
import { count } from "../../parts/numbers";
import { roundTop } from "../../parts/scale";

const height = 60;

/** RateChart is the last minute's events a second: a line so plain that the overview
 * does not wait for a library that draws. */
export function RateChart({ rates }: { rates: number[] }) {
  const [under, setUnder] = useState<number | null>(null);
  const most = rates.length ? Math.max(...rates) : 0;
  const top = roundTop(most, 10);
  const x = (i: number) => (rates.length > 1 ? (i / (rates.length - 1)) * 100 : 0);
  const y = (value: number) => height - (value / top) * height;
  const line = rates.map((value, i) => `${x(i).toFixed(2)},${y(value).toFixed(2)}`).join(" ");
  const rate = under === null ? undefined : rates[under];
  return (
    <div className="rate-chart">
      {[top, top / 2, 0].map((value) => (
        <span key={value} className="tick" style={{ top: y(value) }}>
          {count(value)}
        </span>
      ))}
      <svg
        viewBox={`0 0 100 ${height}`}
        preserveAspectRatio="none"
        role="img"
        aria-label={`Events a second over the last minute; at most ${count(most)}`}
        onPointerLeave={() => setUnder(null)}
        onPointerMove={(e) => {
          const box = e.currentTarget.getBoundingClientRect();
          setUnder(Math.min(rates.length - 1, Math.max(0, Math.round(((e.clientX - box.left) / box.width) * (rates.length - 1)))));
        }}
      >
        {[top, top / 2, 0].map((value) => (
          <line key={value} className="grid" x1="0" x2="100" y1={y(value)} y2={y(value)} />
        ))}
        <polygon className="area" points={`0,${height} ${line} 100,${height}`} />
        <polyline className="line" points={line} />
        {rate !== undefined && under !== null && <line className="pointer" x1={x(under)} x2={x(under)} y1="0" y2={height} />}
      </svg>
      {rate !== undefined && under !== null && (
        <span className="rate-value">
          {count(rate)} events/s, {rates.length - under} s ago
        </span>
      )}
    </div>
  );
}
