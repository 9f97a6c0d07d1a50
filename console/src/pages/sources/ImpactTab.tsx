import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link } from "react-router-dom";
import { answered, api } from "../../api/client";
import type { Finding, OutletImpact, SchemaImpact } from "../../api/types";
import { StateMark } from "../../parts/StateMark";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

/** ImpactTab says what a change of a table's definition would do, before it is made. */
export function ImpactTab({ name }: { name: string }) {
  const [sql, setSql] = useState("");
  const [report, setReport] = useState<SchemaImpact>();
  const { trouble, work, busy } = useWork();
  return (
    <section aria-label="Impact" className="impact">
      <p className="note">
        The statement runs on empty copies of the tables that it changes, in a scratch database, of which nothing stays. The source is only asked for the tables&apos; definitions.
      </p>
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          setReport(undefined);
          void work(async () => setReport(await answered(api.POST("/v1/sources/{name}/impact", { params: { path: { name } }, body: { sql } }))));
        }}
      >
        <Form.Group controlId="impact-sql">
          <Form.Label>One ALTER or DROP of a table or a type</Form.Label>
          <Form.Control
            as="textarea"
            rows={3}
            className="code"
            required
            maxLength={16384}
            spellCheck={false}
            placeholder="ALTER TABLE loans ADD COLUMN note text"
            value={sql}
            onChange={(e) => setSql(e.target.value)}
          />
        </Form.Group>
        <Button size="sm" type="submit" disabled={busy}>
          {busy ? "Trying …" : "What would it do?"}
        </Button>
      </Form>
      <Trouble error={trouble} />
      {report && [report, ...(report.also ?? [])].map((one) => <Result key={one.table} report={one} />)}
    </section>
  );
}

function Result({ report }: { report: SchemaImpact }) {
  return (
    <div className="impact-result">
      <p role="status">
        <StateMark state={report.verdict} /> <strong>{report.table}</strong>: {report.changes.join(", ") || "its version stays the same"}
      </p>
      <Findings findings={report.findings} />
      {report.outlets.length > 0 && (
        <ol className="checks" aria-label={`Outlets of ${report.table}`}>
          {report.outlets.map((outlet) => (
            <OneOutlet key={outlet.outlet} outlet={outlet} />
          ))}
        </ol>
      )}
    </div>
  );
}

function OneOutlet({ outlet }: { outlet: OutletImpact }) {
  return (
    <li data-verdict={outlet.verdict}>
      <StateMark state={outlet.verdict} />
      <span className="check-name">
        <Link to={`/outlets/${outlet.outlet}`}>{outlet.outlet}</Link>
        {outlet.destination && <span className="note"> {outlet.destination}</span>}
      </span>
      <div>
        <Findings findings={outlet.findings} of={outlet.verdict} />
        {outlet.statements?.map((statement) => (
          <pre key={statement} className="fix-statement">
            {statement}
          </pre>
        ))}
      </div>
    </li>
  );
}

/** Findings name their verdict where it is not that of all. */
function Findings({ findings, of }: { findings: Finding[]; of?: string }) {
  return findings.map((f) => (
    <div key={f.says}>
      {f.verdict !== of && <strong>{f.verdict}: </strong>}
      {f.says}
      {f.fix && <div className="note">Fix: {f.fix}</div>}
    </div>
  ));
}
