import { Form } from "react-bootstrap";
import type { SourceDefinition } from "../../api/types";

/** ConnectionFields are how a database is reached, and what goes for all of its
 * tables. A password typed here is sealed, and never shown again. */
export function ConnectionFields({ definition, onChange }: { definition: SourceDefinition; onChange: (definition: SourceDefinition) => void }) {
  const connection = definition.connection;
  const set = (name: keyof typeof connection, value: string | number) => onChange({ ...definition, connection: { ...connection, [name]: value } });
  const more = <K extends keyof SourceDefinition>(name: K, value: SourceDefinition[K]) => {
    const next = { ...definition, [name]: value };
    if (value === "" || value === undefined) {
      Reflect.deleteProperty(next, name);
    }
    onChange(next);
  };
  return (
    <>
      <div className="rule-line">
        <Form.Group controlId="host" className="wide">
          <Form.Label>Host</Form.Label>
          <Form.Control size="sm" required value={connection.host} placeholder="db.example" onChange={(e) => set("host", e.target.value)} />
        </Form.Group>
        <Form.Group controlId="port">
          <Form.Label>Port</Form.Label>
          <Form.Control size="sm" type="number" min={1} max={65535} value={connection.port ?? 5432} onChange={(e) => set("port", Number(e.target.value))} />
        </Form.Group>
        <Form.Group controlId="database">
          <Form.Label>Database</Form.Label>
          <Form.Control size="sm" required value={connection.database} onChange={(e) => set("database", e.target.value)} />
        </Form.Group>
        <Form.Group controlId="tls">
          <Form.Label>TLS</Form.Label>
          <Form.Select size="sm" value={connection.tls ?? "prefer"} onChange={(e) => set("tls", e.target.value)}>
            <option value="prefer">where the server has it</option>
            <option value="require">encrypted</option>
            <option value="verify-full">encrypted, certificate checked</option>
            <option value="disable">not encrypted</option>
          </Form.Select>
        </Form.Group>
      </div>
      <div className="rule-line">
        <Form.Group controlId="user">
          <Form.Label>User</Form.Label>
          <Form.Control size="sm" required value={connection.user} autoComplete="off" onChange={(e) => set("user", e.target.value)} />
        </Form.Group>
        <Form.Group controlId="password" className="wide">
          <Form.Label>Password, or a reference to it</Form.Label>
          <Form.Control
            size="sm"
            type="password"
            value={connection.password ?? ""}
            autoComplete="new-password"
            placeholder="${env:RILLMARK_SECRET_CIRCULATION}"
            onChange={(e) => set("password", e.target.value)}
          />
          <Form.Text>{connection.password === "(sealed)" ? "Stored, sealed. Type another to change it." : "One typed here is sealed and never shown again."}</Form.Text>
        </Form.Group>
        <Form.Group controlId="mode">
          <Form.Label>What to do</Form.Label>
          <Form.Select size="sm" value={definition.mode ?? "load-and-follow"} onChange={(e) => more("mode", e.target.value as SourceDefinition["mode"])}>
            <option value="load-and-follow">load what is there, then follow</option>
            <option value="follow-only">follow from now on</option>
            <option value="load-only">load once, then end</option>
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="sessions">
          <Form.Label>Load sessions</Form.Label>
          <Form.Control size="sm" type="number" min={1} max={16} value={definition.load_sessions ?? 2} onChange={(e) => more("load_sessions", Number(e.target.value))} />
        </Form.Group>
      </div>
      <div className="rule-line">
        <Form.Group controlId="hash-key" className="wide">
          <Form.Label>Key for hashed columns, or a reference to it</Form.Label>
          <Form.Control
            size="sm"
            type="password"
            value={definition.hash_key ?? ""}
            autoComplete="new-password"
            placeholder="${env:RILLMARK_SECRET_HASH_KEY}"
            onChange={(e) => more("hash_key", e.target.value)}
          />
        </Form.Group>
        <Form.Group controlId="slot">
          <Form.Label>Slot, where one was made</Form.Label>
          <Form.Control size="sm" value={connection.slot ?? ""} onChange={(e) => set("slot", e.target.value)} />
        </Form.Group>
        <Form.Group controlId="publication">
          <Form.Label>Publication, where one was made</Form.Label>
          <Form.Control size="sm" value={connection.publication ?? ""} onChange={(e) => set("publication", e.target.value)} />
        </Form.Group>
        <Form.Group controlId="from-position">
          <Form.Label>Follow from position</Form.Label>
          <Form.Control size="sm" className="code" value={definition.from_position ?? ""} placeholder="0/19A2F48" onChange={(e) => more("from_position", e.target.value)} />
        </Form.Group>
      </div>
    </>
  );
}
