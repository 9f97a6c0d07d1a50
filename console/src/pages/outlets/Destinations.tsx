import { useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Button, Form, Modal, Table } from "react-bootstrap";
import { send, useDestinations } from "../../api/client";
import { useStatus } from "../../api/status";
import type { Check, Destination, DestinationRecord } from "../../api/types";
import { Ask } from "../../parts/Ask";
import { Checks } from "../../parts/Checks";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

/** where is a destination in a word or two. */
function where(d: Destination): string {
  switch (d.kind) {
    case "kafka":
      return d.kafka!.brokers.join(", ");
    case "nats":
      return d.nats!.servers.join(", ");
    case "redis":
      return d.redis!.address;
    case "http":
      return d.http!.url;
    default:
      return d.file?.bucket ? `bucket ${d.file.bucket.name}` : (d.file?.directory ?? "");
  }
}

/** Destinations lists where outlets deliver to: checked, changed and removed here. */
export function Destinations() {
  const client = useQueryClient();
  const { status } = useStatus();
  const { data: destinations } = useDestinations();
  const [checked, setChecked] = useState<{ name: string; checks: Check[] }>();
  const [edited, setEdited] = useState<{ record: DestinationRecord; text: string; trouble?: unknown }>();
  const [removed, setRemoved] = useState<string>();
  const { trouble, work } = useWork();
  if (!destinations || destinations.length === 0) {
    return null;
  }
  const run = (what: () => Promise<void>) =>
    work(async () => {
      await what();
      await client.invalidateQueries({ queryKey: ["destinations"] });
    });
  const check = (name: string) => run(async () => setChecked({ name, checks: (await send<{ items: Check[] }>("POST", `/v1/destinations/${name}/check`)).items }));
  const save = async () => {
    try {
      const { record, text } = edited!;
      await send("PUT", `/v1/destinations/${record.name}`, JSON.parse(text), record.version);
      await client.invalidateQueries({ queryKey: ["destinations"] });
      setEdited(undefined);
      setChecked(undefined);
    } catch (error) {
      setEdited({ ...edited!, trouble: error });
    }
  };
  const users = (name: string) => status?.outlets.filter((o) => o.destination === name).map((o) => o.name) ?? [];
  return (
    <>
      <h2 className="section-head">Destinations</h2>
      <Trouble error={trouble} />
      <div className="table-scroll" tabIndex={0} role="region" aria-label="Destinations">
        <Table size="sm" className="counts">
          <thead>
            <tr>
              <th scope="col">destination</th>
              <th scope="col">kind</th>
              <th scope="col">where</th>
              <th scope="col">outlets</th>
              <th scope="col">
                <span className="visually-hidden">what to do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {destinations.map((d) => (
              <Fragment key={d.name}>
                <tr>
                  <th scope="row">{d.name}</th>
                  <td>{d.definition.kind}</td>
                  <td>{where(d.definition)}</td>
                  <td>{users(d.name).join(", ") || "–"}</td>
                  <td className="number">
                    <Button variant="link" size="sm" className="quiet-button" aria-label={`Check ${d.name}`} onClick={() => check(d.name)}>
                      Check
                    </Button>
                    <Button variant="link" size="sm" className="quiet-button" aria-label={`Edit ${d.name}`} onClick={() => setEdited({ record: d, text: JSON.stringify(d.definition, null, 2) })}>
                      Edit …
                    </Button>
                    <Button variant="link" size="sm" className="quiet-button" aria-label={`Remove ${d.name}`} onClick={() => setRemoved(d.name)}>
                      Remove …
                    </Button>
                  </td>
                </tr>
                {checked?.name === d.name && (
                  <tr>
                    <td colSpan={5}>
                      <Checks checks={checked.checks} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </Table>
      </div>
      <Ask
        show={removed !== undefined}
        title={`Remove the destination ${removed}?`}
        text="What was delivered there stays. A destination that an outlet uses is not removed."
        word="Remove it"
        onNo={() => setRemoved(undefined)}
        onYes={() => {
          const name = removed!;
          setRemoved(undefined);
          run(() => send("DELETE", `/v1/destinations/${name}`));
        }}
      />
      <Modal animation={false} show={edited !== undefined} onHide={() => setEdited(undefined)} size="lg" aria-labelledby="edit-title">
        {edited && (
          <Form
            onSubmit={(event) => {
              event.preventDefault();
              save();
            }}
          >
            <Modal.Body>
              <h2 id="edit-title">The destination {edited.record.name}</h2>
              <p className="note">Its outlets go on with what is saved here. A sealed secret stays as it is; another one can be typed in its place.</p>
              <Form.Group controlId="destination-definition">
                <Form.Label className="visually-hidden">Definition</Form.Label>
                <Form.Control as="textarea" rows={12} className="code" spellCheck={false} value={edited.text} onChange={(e) => setEdited({ ...edited, text: e.target.value })} />
              </Form.Group>
              <Trouble error={edited.trouble} />
            </Modal.Body>
            <Modal.Footer>
              <Button variant="outline-secondary" onClick={() => setEdited(undefined)}>
                Leave it
              </Button>
              <Button type="submit">Save</Button>
            </Modal.Footer>
          </Form>
        )}
      </Modal>
    </>
  );
}
