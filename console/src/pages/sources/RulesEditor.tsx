import { Button, Form } from "react-bootstrap";
import type { TableRule } from "../../api/types";
import { ColumnRules } from "./ColumnRules";

interface Edited {
  rules: TableRule[];
  onChange: (rules: TableRule[]) => void;
}

/** RulesEditor edits the table rules, of which the first that matches a table
 * decides. */
export function RulesEditor({ rules, onChange }: Edited) {
  const put = (at: number, rule: TableRule) => onChange(rules.map((r, i) => (i === at ? rule : r)));
  const move = (at: number, by: number) => {
    const next = [...rules];
    next.splice(at + by, 0, ...next.splice(at, 1));
    onChange(next);
  };
  return (
    <div className="rules">
      <ol>
        {rules.map((rule, at) => (
          <li key={at} className="rule">
            <OneRule id={`rule-${at}`} rule={rule} onChange={(r) => put(at, r)} />
            <div className="rule-actions">
              <Button size="sm" variant="link" className="quiet-button" disabled={at === 0} onClick={() => move(at, -1)} aria-label={`Move rule ${at + 1} up`}>
                ↑
              </Button>
              <Button size="sm" variant="link" className="quiet-button" disabled={at === rules.length - 1} onClick={() => move(at, 1)} aria-label={`Move rule ${at + 1} down`}>
                ↓
              </Button>
              <Button size="sm" variant="link" className="quiet-button" disabled={rules.length === 1} onClick={() => onChange(rules.filter((_, i) => i !== at))} aria-label={`Remove rule ${at + 1}`}>
                Remove
              </Button>
            </div>
          </li>
        ))}
      </ol>
      <Button size="sm" variant="outline-secondary" onClick={() => onChange([{ match: "", active: true }, ...rules])}>
        Add a rule in front
      </Button>
    </div>
  );
}

function OneRule({ id, rule, onChange }: { id: string; rule: TableRule; onChange: (rule: TableRule) => void }) {
  const set = <K extends keyof TableRule>(name: K, value: TableRule[K]) => {
    const next = { ...rule, [name]: value };
    if (value === "" || value === undefined || (Array.isArray(value) && value.length === 0)) {
      Reflect.deleteProperty(next, name);
    }
    if (name === "after_rewrite" && value !== "small") {
      Reflect.deleteProperty(next, "reload_up_to"); // which is for that alone
    }
    onChange(next as TableRule);
  };
  const active = rule.active !== false;
  const choice = (name: "image" | "load_by" | "after_rewrite" | "partitions", label: string, options: [string, string][]) => (
    <Form.Group controlId={`${id}-${name}`}>
      <Form.Label>{label}</Form.Label>
      <Form.Select size="sm" value={rule[name] ?? options[0]![0]} onChange={(e) => set(name, e.target.value as never)}>
        {options.map(([value, text]) => (
          <option key={value} value={value}>
            {text}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  );
  return (
    <>
      <div className="rule-line">
        <Form.Group controlId={`${id}-match`} className="wide">
          <Form.Label>Tables</Form.Label>
          <Form.Control size="sm" className="code" value={rule.match} placeholder="public.*" onChange={(e) => onChange({ ...rule, match: e.target.value })} />
        </Form.Group>
        <Form.Group controlId={`${id}-active`}>
          <Form.Label>Captured</Form.Label>
          <Form.Select size="sm" value={active ? "yes" : "no"} onChange={(e) => onChange({ ...rule, active: e.target.value === "yes" })}>
            <option value="yes">yes</option>
            <option value="no">no, left out</option>
          </Form.Select>
        </Form.Group>
        {active &&
          choice("image", "What of a row", [
            ["both", "before and after"],
            ["after", "after the change"],
            ["key", "its key alone"],
          ])}
        <Form.Group controlId={`${id}-description`} className="wide">
          <Form.Label>Description</Form.Label>
          <Form.Control size="sm" value={rule.description ?? ""} onChange={(e) => set("description", e.target.value)} />
        </Form.Group>
      </div>
      {active && (
        <details open={Boolean(rule.columns?.length || rule.filter || rule.keep_for)}>
          <summary>Columns, rows and load</summary>
          <ColumnRules id={id} columns={rule.columns ?? []} onChange={(columns) => set("columns", columns)} />
          <div className="rule-line">
            <Form.Group controlId={`${id}-filter`} className="widest">
              <Form.Label>Only rows for which this holds (CEL)</Form.Label>
              <Form.Control size="sm" className="code" value={rule.filter ?? ""} placeholder='branch_id == 3 && state != "cancelled"' onChange={(e) => set("filter", e.target.value)} />
            </Form.Group>
            <Form.Group controlId={`${id}-key`} className="wide">
              <Form.Label>Key, for tables without one</Form.Label>
              <Form.Control
                size="sm"
                className="code"
                defaultValue={(rule.key ?? []).join(", ")}
                placeholder="branch_id, visited_at"
                onBlur={(e) =>
                  set(
                    "key",
                    e.target.value
                      .split(",")
                      .map((k) => k.trim())
                      .filter(Boolean),
                  )
                }
              />
            </Form.Group>
          </div>
          <div className="rule-line">
            {choice("load_by", "Load", [
              ["range", "by place on disk"],
              ["key", "in the order of the key"],
            ])}
            <Form.Group controlId={`${id}-priority`}>
              <Form.Label>Load priority</Form.Label>
              <Form.Control size="sm" type="number" min={-100} max={100} value={rule.priority ?? 0} onChange={(e) => set("priority", Number(e.target.value) || undefined)} />
            </Form.Group>
            <Form.Group controlId={`${id}-keep`}>
              <Form.Label>Keep events for</Form.Label>
              <Form.Control size="sm" className="code" value={rule.keep_for ?? ""} placeholder="as the journal" onChange={(e) => set("keep_for", e.target.value || undefined)} />
            </Form.Group>
            {choice("after_rewrite", "After a silent rewrite", [
              ["small", "reload it if it is small"],
              ["stale", "show it as stale"],
              ["reload", "reload it"],
            ])}
            {(rule.after_rewrite ?? "small") === "small" && (
              <Form.Group controlId={`${id}-reload-up-to`}>
                <Form.Label>Small is up to (rows)</Form.Label>
                <Form.Control
                  size="sm"
                  type="number"
                  min={0}
                  value={rule.reload_up_to ?? ""}
                  placeholder="100000"
                  onChange={(e) => set("reload_up_to", e.target.value === "" ? undefined : Number(e.target.value))}
                />
              </Form.Group>
            )}
            {choice("partitions", "Rows of partitions", [
              ["each", "carry the partition's name"],
              ["root", "carry the root's name"],
            ])}
            <Form.Check
              id={`${id}-skip`}
              label="Leave out updates that touch no captured column"
              checked={rule.skip_untouched ?? false}
              onChange={(e) => set("skip_untouched", e.target.checked || undefined)}
            />
          </div>
        </details>
      )}
    </>
  );
}
