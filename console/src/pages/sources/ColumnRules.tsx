import { Button, Form } from "react-bootstrap";
import type { ColumnRule } from "../../api/types";

/** ColumnRules edits how columns are treated before they reach the journal. */
export function ColumnRules({ id, columns, onChange }: { id: string; columns: ColumnRule[]; onChange: (columns: ColumnRule[]) => void }) {
  return (
    <fieldset className="column-rules">
      <legend>Private columns</legend>
      {columns.map((column, at) => (
        <div key={at} className="rule-line">
          <Form.Control
            size="sm"
            className="code"
            aria-label={`Column pattern ${at + 1}`}
            placeholder="email"
            value={column.match}
            onChange={(e) => onChange(columns.map((c, i) => (i === at ? { ...c, match: e.target.value } : c)))}
          />
          <Form.Select
            size="sm"
            id={`${id}-treat-${at}`}
            aria-label={`How column ${at + 1} is treated`}
            value={column.treat}
            onChange={(e) => onChange(columns.map((c, i) => (i === at ? { ...c, treat: e.target.value as ColumnRule["treat"] } : c)))}
          >
            <option value="drop">dropped</option>
            <option value="mask">masked, ***</option>
            <option value="hash">hashed under the source's key</option>
            <option value="keep">kept as it is</option>
          </Form.Select>
          <Button size="sm" variant="link" className="quiet-button" onClick={() => onChange(columns.filter((_, i) => i !== at))} aria-label={`Remove column ${at + 1}`}>
            Remove
          </Button>
        </div>
      ))}
      <Button size="sm" variant="link" className="quiet-button" onClick={() => onChange([...columns, { match: "", treat: "drop" }])}>
        Add a column
      </Button>
    </fieldset>
  );
}
