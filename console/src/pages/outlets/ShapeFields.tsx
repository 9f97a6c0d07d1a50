import { Form } from "react-bootstrap";
import type { Outlet } from "../../api/types";

const formats: Record<string, [string, string][]> = {
  pull: [
    ["cloudevents", "CloudEvents, structured JSON"],
    ["data", "the data alone"],
    ["row", "the row, flat"],
  ],
  file: [
    ["cloudevents", "CloudEvents, a line each"],
    ["data", "the data alone, a line each"],
    ["row", "the row, a line each"],
    ["avro", "the row, in Avro files"],
    ["parquet", "the row, in Parquet files"],
  ],
};
const all: [string, string][] = [
  ["cloudevents", "CloudEvents, structured JSON"],
  ["cloudevents-binary", "CloudEvents, attributes as headers"],
  ["data", "the data alone"],
  ["row", "the row, flat"],
  ["avro", "the row in Avro"],
];

/** ShapeFields say what goes out, and in which form. */
export function ShapeFields({ kind, outlet, onChange }: { kind: string; outlet: Outlet; onChange: (o: Outlet) => void }) {
  const list = (text: string) => {
    const found = text.split(/[\s,]+/).filter(Boolean);
    return found.length ? found : undefined;
  };
  const topics = kind === "kafka" || kind === "nats" || kind === "redis";
  return (
    <>
      <div className="rule-line">
        <Form.Group controlId="tables" className="wide">
          <Form.Label>Tables, as patterns; empty: all</Form.Label>
          <Form.Control size="sm" placeholder="public.loans public.holds" defaultValue={outlet.tables?.join(" ")} onChange={(e) => onChange({ ...outlet, tables: list(e.target.value) })} />
        </Form.Group>
        <Form.Group controlId="operations" className="wide">
          <Form.Label>Operations; empty: all</Form.Label>
          <Form.Control
            size="sm"
            placeholder="insert update delete"
            defaultValue={outlet.operations?.join(" ")}
            onChange={(e) => onChange({ ...outlet, operations: list(e.target.value) as Outlet["operations"] })}
          />
        </Form.Group>
        <Form.Group controlId="changes">
          <Form.Label>Changes</Form.Label>
          <Form.Select size="sm" value={outlet.changes ?? "each"} onChange={(e) => onChange({ ...outlet, changes: e.target.value as Outlet["changes"] })}>
            <option value="each">each of them</option>
            <option value="combined">combined: the net change of each row</option>
            <option value="inserts">new rows only</option>
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="from">
          <Form.Label>Start at</Form.Label>
          <Form.Control size="sm" placeholder="beginning" value={outlet.from ?? ""} onChange={(e) => onChange({ ...outlet, from: e.target.value || undefined })} />
          <Form.Text>beginning, now, an offset, time:… or mark:NAME</Form.Text>
        </Form.Group>
      </div>
      <div className="rule-line">
        <Form.Group controlId="format">
          <Form.Label>Form</Form.Label>
          <Form.Select size="sm" value={outlet.format ?? "cloudevents"} onChange={(e) => onChange({ ...outlet, format: e.target.value as Outlet["format"] })}>
            {(formats[kind] ?? all).map(([value, text]) => (
              <option key={value} value={value}>
                {text}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        {topics && (
          <Form.Group controlId="topic" className="wide">
            <Form.Label>{kind === "nats" ? "Subject" : kind === "redis" ? "Stream" : "Topic"}</Form.Label>
            <Form.Control
              size="sm"
              className="code"
              placeholder="{source}.{schema|log}.{table|messages}"
              value={outlet.topic ?? ""}
              onChange={(e) => onChange({ ...outlet, topic: e.target.value || undefined })}
            />
            <Form.Text>Fields in braces: source, schema, table, operation, key, transaction, row.COLUMN</Form.Text>
          </Form.Group>
        )}
        {topics && kind !== "nats" && (
          <Form.Group controlId="key" className="wide">
            <Form.Label>Key</Form.Label>
            <Form.Control size="sm" className="code" placeholder="{key}" value={outlet.key ?? ""} onChange={(e) => onChange({ ...outlet, key: e.target.value || undefined })} />
          </Form.Group>
        )}
        <Form.Group controlId="description" className="wide">
          <Form.Label>Description</Form.Label>
          <Form.Control size="sm" value={outlet.description ?? ""} onChange={(e) => onChange({ ...outlet, description: e.target.value || undefined })} />
        </Form.Group>
      </div>
    </>
  );
}
