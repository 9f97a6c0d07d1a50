import { useState } from "react";
import { Button, Form, Modal, Table } from "react-bootstrap";
import { answered, api } from "../../api/client";
import type { SourceStatus, TableStatus } from "../../api/types";
import { LoadProgress } from "../../parts/LoadProgress";
import { count } from "../../parts/numbers";
import { StateMark } from "../../parts/StateMark";
import { Trouble } from "../../parts/Trouble";

const shown = ["existing", "insert", "update", "delete", "truncate"] as const;

/** TablesTab is the source's tables: their states, loads and counts. */
export function TablesTab({ source }: { source: SourceStatus }) {
  const [reload, setReload] = useState<TableStatus>();
  if (source.tables.length === 0) {
    return <p className="note">The tables are listed once the source has been started.</p>;
  }
  return (
    <>
      <div className="table-scroll" tabIndex={0} role="region" aria-label="Tables">
        <Table size="sm" className="counts">
          <thead>
            <tr>
              <th scope="col">table</th>
              <th scope="col">state</th>
              <th scope="col" className="number">
                rows (est.)
              </th>
              <th scope="col" className="number">
                last load
              </th>
              {shown.map((operation) => (
                <th scope="col" key={operation} className="number">
                  {operation}
                </th>
              ))}
              <th scope="col">note</th>
              <th scope="col">
                <span className="visually-hidden">do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {source.tables.map((t) => (
              <tr key={t.name} data-table={t.name}>
                <th scope="row" title={t.partitions?.join(", ")}>
                  {t.name}
                  {t.partitions && <span className="note"> {count(t.partitions.length)} partitions</span>}
                </th>
                <td>
                  <StateMark state={t.state} />
                  {t.state === "loading" && <LoadProgress table={t} />}
                </td>
                <td className="number">{count(t.rows_estimate)}</td>
                <td className="number">{t.rows_done ? count(t.rows_done) : <span className="none">–</span>}</td>
                {shown.map((operation) => (
                  <td key={operation} className="number">
                    {t.counts[operation] ? count(t.counts[operation]) : <span className="none">–</span>}
                  </td>
                ))}
                <td className="note-cell" title={t.note}>
                  {t.note ?? t.description}
                </td>
                <td>
                  {["following", "stale", "not-loaded", "loading"].includes(t.state) && (
                    <Button size="sm" variant="link" className="quiet-button" onClick={() => setReload(t)} aria-label={`Reload ${t.name}`}>
                      Reload
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      </div>
      {reload && <Reload source={source.name} table={reload} onEnd={() => setReload(undefined)} />}
    </>
  );
}

function Reload({ source, table, onEnd }: { source: string; table: TableStatus; onEnd: () => void }) {
  const [where, setWhere] = useState("");
  const [trouble, setTrouble] = useState<unknown>();
  return (
    <Modal show onHide={onEnd} aria-labelledby="reload-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          answered(api.POST("/v1/sources/{name}/tables/{table}/reload", { params: { path: { name: source, table: table.name } }, body: { where } })).then(onEnd, setTrouble);
        }}
      >
        <Modal.Body>
          <h2 id="reload-title">Reload {table.name}</h2>
          <p>Its rows are read anew while all else goes on: earlier rows are void, and each comes again as existing.</p>
          <Form.Group controlId="where">
            <Form.Label>Only rows for which this holds (SQL, may stay empty)</Form.Label>
            <Form.Control value={where} onChange={(event) => setWhere(event.target.value)} placeholder="branch_id = 3" className="code" autoFocus />
            <Form.Text>With a condition nothing is void; a row that has gone in silence stays.</Form.Text>
          </Form.Group>
          <Trouble error={trouble} />
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-secondary" onClick={onEnd}>
            Leave it
          </Button>
          <Button type="submit">Reload</Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}
