import { Form } from "react-bootstrap";
import { useEngines } from "../../api/client";
import type { SourceDefinition } from "../../api/types";
import { SchemaForm } from "../../parts/form/SchemaForm";
import type { Section } from "../../parts/form/schema";

/** SourceForm asks how a database is reached, and for what goes for all of its tables.
 * A secret typed here is sealed, and never shown again. */
export function SourceForm({ definition, onChange }: { definition: SourceDefinition; onChange: (definition: SourceDefinition) => void }) {
  const { data: engines } = useEngines();
  const engine = engines?.find((e) => e.name === (definition.engine ?? "postgresql"));
  if (!engines || !engine) {
    return <p aria-busy="true">Looking …</p>;
  }
  return (
    <>
      {engines.length > 1 && (
        <div className="fields">
          <Form.Group controlId="engine">
            <Form.Label>Engine</Form.Label>
            <Form.Select size="sm" value={definition.engine} onChange={(e) => onChange({ ...definition, engine: e.target.value as SourceDefinition["engine"] })}>
              {engines.map((e) => (
                <option key={e.name} value={e.name}>
                  {e.title}
                </option>
              ))}
            </Form.Select>
          </Form.Group>
        </div>
      )}
      <SchemaForm
        key={engine.name}
        schema={engine.connection}
        advanced="Advanced: connection"
        value={definition.connection as Section}
        onChange={(connection) => onChange({ ...definition, connection: connection as SourceDefinition["connection"] })}
      />
      <SchemaForm
        schema={engine.source}
        value={definition as unknown as Section}
        omit={["engine", "tables"]}
        advanced="Advanced: capture"
        onChange={(next) => onChange(next as unknown as SourceDefinition)}
      />
    </>
  );
}
