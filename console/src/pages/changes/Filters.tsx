import { Button, Form, ToggleButton, ToggleButtonGroup } from "react-bootstrap";
import type { SourceStatus } from "../../api/types";
import { count } from "../../parts/numbers";
import { operations } from "../../parts/OperationMark";

export interface Filter {
  source: string;
  table: string;
  operations: string[];
}

interface Props {
  filter: Filter;
  onFilter: (filter: Filter) => void;
  sources: SourceStatus[];
  paused: boolean;
  onPause: (paused: boolean) => void;
  held: number;
}

/** Filters choose what of the stream is shown, and hold it. */
export function Filters({ filter, onFilter, sources, paused, onPause, held }: Props) {
  const tables = sources.find((s) => s.name === filter.source)?.tables ?? [];
  return (
    <Form className="filters" onSubmit={(event) => event.preventDefault()}>
      <Form.Group controlId="filter-source">
        <Form.Label>source</Form.Label>
        <Form.Select size="sm" value={filter.source} onChange={(e) => onFilter({ ...filter, source: e.target.value, table: "" })}>
          {sources.map((s) => (
            <option key={s.name}>{s.name}</option>
          ))}
        </Form.Select>
      </Form.Group>
      <Form.Group controlId="filter-table">
        <Form.Label>table</Form.Label>
        <Form.Select size="sm" value={filter.table} onChange={(e) => onFilter({ ...filter, table: e.target.value })}>
          <option value="">all tables</option>
          {tables.map((t) => (
            <option key={t.name}>{t.name}</option>
          ))}
        </Form.Select>
      </Form.Group>
      <div role="group" aria-label="operations" className="operations">
        <span className="form-label">operations (all, unless some are chosen)</span>
        <ToggleButtonGroup type="checkbox" size="sm" value={filter.operations} onChange={(chosen: string[]) => onFilter({ ...filter, operations: chosen })}>
          {operations.map((operation) => (
            <ToggleButton key={operation} id={`operation-${operation}`} value={operation} variant="outline-secondary">
              {operation}
            </ToggleButton>
          ))}
        </ToggleButtonGroup>
      </div>
      <Button size="sm" className="pause" variant={paused ? "primary" : "outline-primary"} aria-pressed={paused} onClick={() => onPause(!paused)}>
        {paused ? `Resume (${count(held)} new)` : "Pause"}
      </Button>
    </Form>
  );
}
