import { useState } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { answered, api } from "../../api/client";
import { useSourceStatus } from "../../api/status";
import type { OutletStatus } from "../../api/types";
import { TablePicker } from "../../parts/form/TablePicker";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

/** LoadDialog has the source's rows read again for one outlet alone. */
export function LoadDialog({ outlet, patterns, onClose }: { outlet: OutletStatus; patterns: string[]; onClose: () => void }) {
  const source = useSourceStatus(outlet.source);
  const [tables, setTables] = useState(patterns);
  const [where, setWhere] = useState("");
  const { trouble, work, busy } = useWork();
  const ask = () =>
    work(async () => {
      await answered(api.POST("/v1/outlets/{name}/load", { params: { path: { name: outlet.name } }, body: { tables, where } }));
      onClose();
    });
  return (
    <Modal animation={false} show onHide={onClose} aria-labelledby="load-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          void ask();
        }}
      >
        <Modal.Body>
          <h2 id="load-title">Load for {outlet.name}</h2>
          <p>The source&apos;s rows come again to this outlet, in order with all changes. No other outlet notices.</p>
          <TablePicker id="load-tables" tables={source?.tables.map((t) => t.name) ?? []} value={tables} onChange={setTables} none="Without a pattern, all tables of the outlet" />
          <Form.Group controlId="load-where" className="part">
            <Form.Label>Only rows for which this holds</Form.Label>
            <Form.Control size="sm" className="code" placeholder="branch_id = 3" value={where} maxLength={4000} onChange={(e) => setWhere(e.target.value)} />
            <Form.Text>A condition in the source&apos;s own SQL. Without one all rows come, and those that the source no longer has go.</Form.Text>
          </Form.Group>
          <Trouble error={trouble} />
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={onClose}>
            Leave it
          </Button>
          <Button type="submit" disabled={busy}>
            Load
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}
