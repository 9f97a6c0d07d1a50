import { ProgressBar } from "react-bootstrap";
import type { TableStatus } from "../api/types";
import { count, span } from "./numbers";

/** LoadProgress is how far a table's load is: rows of the estimate, rate, time left. */
export function LoadProgress({ table }: { table: TableStatus }) {
  const known = table.rows_estimate > 0;
  const share = known ? Math.min((100 * table.rows_done) / table.rows_estimate, 99) : 0;
  const parts = [known ? `${count(table.rows_done)} of about ${count(Math.max(table.rows_estimate, table.rows_done))} rows` : `${count(table.rows_done)} rows`];
  if (table.load_rate) {
    parts.push(`${count(Math.round(table.load_rate))}/s`);
  }
  if (table.seconds_left !== undefined) {
    parts.push(`${span(table.seconds_left)} left`);
  }
  return (
    <div className="load-progress">
      {known && <ProgressBar now={share} aria-label={`${table.name}: ${Math.round(share)} percent loaded`} />}
      <span className="progress-note">{parts.join(" · ")}</span>
    </div>
  );
}
