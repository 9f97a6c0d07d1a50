import { Form } from "react-bootstrap";
import type { Destination, Kind } from "../../api/types";
import { SchemaForm } from "../../parts/form/SchemaForm";
import { put, type Section } from "../../parts/form/schema";

/** DestinationForm asks how a destination is reached. A secret typed here is sealed,
 * and never shown again; the kind of one that is there stays. */
export function DestinationForm({ kinds, destination, fixed, onChange }: { kinds: Kind[]; destination: Destination; fixed?: boolean; onChange: (d: Destination) => void }) {
  const kind = kinds.find((k) => k.name === destination.kind);
  const section = (destination as Section)[destination.kind] as Section | undefined;
  return (
    <>
      {!fixed && (
        <div className="fields">
          <Form.Group controlId="kind">
            <Form.Label>Kind</Form.Label>
            <Form.Select size="sm" value={destination.kind} onChange={(e) => onChange({ kind: e.target.value as Destination["kind"] })}>
              {kinds
                .filter((k) => k.settings)
                .map((k) => (
                  <option key={k.name} value={k.name}>
                    {k.title}
                  </option>
                ))}
            </Form.Select>
            <Form.Text>{kind?.about}</Form.Text>
          </Form.Group>
        </div>
      )}
      {kind?.settings && (
        <SchemaForm
          key={kind.name}
          schema={kind.settings}
          value={section ?? {}}
          onChange={(next) => onChange(put(destination as unknown as Section, destination.kind, next) as unknown as Destination)}
        />
      )}
    </>
  );
}
