import { Form } from "react-bootstrap";
import { useEngines } from "../../api/client";
import type { Engine, SourceDefinition } from "../../api/types";
import { SchemaForm } from "../../parts/form/SchemaForm";
import type { Section } from "../../parts/form/schema";

/** ofEngine is a definition for another engine: of the connection, what that one has, too;
 * of the tables, all, where nothing but the first suggestion is there. */
function ofEngine(definition: SourceDefinition, engine: Engine): SourceDefinition {
  const has = Object.keys((engine.connection as { properties: object }).properties);
  const connection = Object.fromEntries(Object.entries(definition.connection ?? {}).filter(([name]) => has.includes(name)));
  const untouched = definition.tables?.length === 1 && definition.tables[0]?.match === "public.*";
  return {
    ...definition,
    engine: engine.name as SourceDefinition["engine"],
    connection: connection as SourceDefinition["connection"],
    tables: untouched ? [{ match: "*", active: true }] : definition.tables,
  };
}

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
            <Form.Select size="sm" value={definition.engine} onChange={(event) => onChange(ofEngine(definition, engines.find((e) => e.name === event.target.value) ?? engine))}>
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
