import { useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Button, Form, Modal, Table } from "react-bootstrap";
import { answered, api, at, useDestinations, useKinds } from "../../api/client";
import { useOutlets } from "../../api/status";
import type { Check, Destination, DestinationRecord } from "../../api/types";
import { Ask } from "../../parts/Ask";
import { Checks } from "../../parts/Checks";
import { Editor } from "../../parts/form/Editor";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";
import { DestinationForm } from "./DestinationForm";

/** Destinations lists where outlets deliver to: checked, changed and removed here. */
export function Destinations() {
  const client = useQueryClient();
  const outlets = useOutlets();
  const { data: destinations } = useDestinations();
  const [checked, setChecked] = useState<{ name: string; checks: Check[] }>();
  const [edited, setEdited] = useState<DestinationRecord>();
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
  const check = (name: string) => run(async () => setChecked({ name, checks: (await answered(api.POST("/v1/destinations/{name}/check", { params: { path: { name } } }))).items }));
  const users = (name: string) => outlets?.filter((o) => o.destination === name).map((o) => o.name) ?? [];
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
                  <td>{d.where}</td>
                  <td>{users(d.name).join(", ") || "–"}</td>
                  <td className="number">
                    <Button variant="link" size="sm" className="quiet-button" aria-label={`Check ${d.name}`} onClick={() => check(d.name)}>
                      Check
                    </Button>
                    <Button variant="link" size="sm" className="quiet-button" aria-label={`Edit ${d.name}`} onClick={() => setEdited(d)}>
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
          run(() => answered(api.DELETE("/v1/destinations/{name}", { params: { path: { name } } })));
        }}
      />
      {edited && (
        <DestinationDialog
          record={edited}
          onClose={() => setEdited(undefined)}
          onSaved={async () => {
            setEdited(undefined);
            setChecked(undefined);
            await client.invalidateQueries({ queryKey: ["destinations"] });
          }}
        />
      )}
    </>
  );
}

/** DestinationDialog changes a destination. Its outlets go on with what is saved. */
function DestinationDialog({ record, onClose, onSaved }: { record: DestinationRecord; onClose: () => void; onSaved: () => Promise<void> }) {
  const { data: kinds } = useKinds();
  const [draft, setDraft] = useState<Destination>(record.definition);
  const [wrong, setWrong] = useState("");
  const [checks, setChecks] = useState<Check[]>();
  const path = { name: record.name };
  const { busy, trouble, work } = useWork();
  const check = () => work(async () => setChecks((await answered(api.POST("/v1/destinations/{name}/check", { params: { path }, body: draft }))).items));
  const save = () =>
    work(async () => {
      await answered(api.PUT("/v1/destinations/{name}", { params: { path, header: at(record.version) }, body: draft }));
      await onSaved();
    });
  return (
    <Modal animation={false} show onHide={onClose} size="lg" aria-labelledby="edit-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          void save();
        }}
      >
        <Modal.Body>
          <h2 id="edit-title">The destination {record.name}</h2>
          <p className="note">Its outlets go on with what is saved here. A sealed secret stays as it is; another one can be typed in its place.</p>
          <Editor id="destination-definition" value={draft} onChange={setDraft} onWrong={setWrong}>
            {kinds && <DestinationForm kinds={kinds} destination={draft} onChange={setDraft} fixed />}
          </Editor>
          <Trouble error={wrong || trouble} />
          {checks && <Checks checks={checks} />}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={onClose}>
            Cancel
          </Button>
          <Button variant="outline-secondary" disabled={busy || wrong !== ""} onClick={check}>
            Check it
          </Button>
          <Button type="submit" disabled={busy || wrong !== ""}>
            Save
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}
