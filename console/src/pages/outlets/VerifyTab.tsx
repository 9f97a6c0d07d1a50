import { useEffect, useRef, useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { sendForLines } from "../../api/client";
import type { OutletStatus, TableVerdict, Verification } from "../../api/types";
import { count, localMoment } from "../../parts/numbers";
import { Trouble } from "../../parts/Trouble";
import { useWork } from "../../parts/work";

interface Line {
  table?: TableVerdict;
  result?: Verification;
  problem?: { detail?: string; fix?: string };
}

/** VerifyTab compares the rows that an outlet keeps in a database with the source's. */
export function VerifyTab({ outlet }: { outlet: OutletStatus }) {
  const [tables, setTables] = useState<TableVerdict[]>([]);
  const [result, setResult] = useState<Verification>();
  const [problem, setProblem] = useState<string>();
  const [sample, setSample] = useState("");
  const { trouble, work, busy } = useWork();
  const running = useRef<AbortController>(undefined);
  useEffect(() => () => running.current?.abort(), []);
  const begin = (query: Record<string, string>) => {
    const stop = new AbortController();
    running.current = stop;
    setTables([]);
    setResult(undefined);
    setProblem(undefined);
    return work(() =>
      sendForLines<Line>(
        `/v1/outlets/${outlet.name}/verify?${new URLSearchParams(query)}`,
        undefined,
        ({ table, result, problem }) => {
          if (table) {
            setTables((now) => [...now.filter((t) => t.table !== table.table), table].sort((a, b) => a.table.localeCompare(b.table)));
          }
          if (result) {
            setTables(result.tables);
            setResult(result);
          }
          if (problem) {
            setProblem([problem.detail, problem.fix].filter(Boolean).join(" "));
          }
        },
        stop.signal,
      ),
    );
  };
  return (
    <section aria-label="Verify" className="verify">
      <p className="note">Reads the rows of the source and those of the database, by content, while both change. Only differences that hold are shown.</p>
      <div className="rule-line">
        <Form.Select size="sm" aria-label="Rows that are compared" value={sample} disabled={busy} onChange={(e) => setSample(e.target.value)}>
          <option value="">all rows</option>
          <option value="20">a sample of 20 %</option>
          <option value="5">a sample of 5 %</option>
          <option value="1">a sample of 1 %</option>
        </Form.Select>
        <Button size="sm" disabled={busy} onClick={() => begin(sample ? { sample } : {})}>
          {busy ? "Comparing …" : "Compare now"}
        </Button>
        {(problem !== undefined || trouble !== undefined) && !busy && (
          <Button size="sm" variant="outline-secondary" onClick={() => begin({ resume: "true" })}>
            Go on with the comparison
          </Button>
        )}
        {result && !result.equal && !busy && (
          <Button size="sm" variant="outline-secondary" onClick={() => begin({ fix: "true" })}>
            Compare, and load what differs
          </Button>
        )}
        {result && (
          <strong role="status">
            {result.equal ? (result.sample ? "Every row of the sample is equal" : "Every row is equal") : "Not equal"}, compared in {result.seconds.toFixed(1)} s
          </strong>
        )}
      </div>
      {result?.fixes && (
        <p role="status">
          Loading again for this outlet alone: {result.fixes.map((f) => `${f.rows ? `${count(f.rows)} ${f.rows === 1 ? "row" : "rows"}` : "all rows"} of ${f.table}`).join(", ")}. Compare once more
          when that is done.
        </p>
      )}
      {!result && !busy && outlet.verified && (
        <p className={outlet.verified.equal ? undefined : "trouble"}>
          {outlet.verified.equal ? `${count(outlet.verified.rows)} rows of ${outlet.verified.tables} tables were equal` : `Not equal: ${outlet.verified.finding ?? ""}`},{" "}
          {localMoment(outlet.verified.at)}.
        </p>
      )}
      <Trouble error={trouble} />
      {problem && <p className="trouble">{problem}</p>}
      {tables.length > 0 && <Verdicts tables={tables} />}
      {result && result.differences.length > 0 && <Differences result={result} />}
    </section>
  );
}

function Verdicts({ tables }: { tables: TableVerdict[] }) {
  return (
    <div className="table-scroll" tabIndex={0} role="region" aria-label="Verdicts by table">
      <Table size="sm" className="counts">
        <thead>
          <tr>
            <th scope="col">table</th>
            {["rows", "missing", "extra", "different", "undecided"].map((name) => (
              <th key={name} scope="col">
                {name}
              </th>
            ))}
            <th scope="col">verdict</th>
          </tr>
        </thead>
        <tbody>
          {tables.map((t) => (
            <tr key={t.table}>
              <th scope="row">{t.table}</th>
              <td>{t.done ? count(t.rows) : `${count(t.rows)} of about ${count(Math.max(t.estimate ?? 0, t.rows))}`}</td>
              {[t.missing, t.extra, t.different, t.undecided].map((n, i) => (
                <td key={i}>{n ? count(n) : "–"}</td>
              ))}
              <td>{verdict(t)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}

function verdict(t: TableVerdict): string {
  if (!t.done) {
    return "…";
  }
  if (t.skipped) {
    return `not compared: ${t.skipped}`;
  }
  return t.missing + t.extra + t.different + t.undecided ? "differs" : "equal";
}

function Differences({ result }: { result: Verification }) {
  const all = result.tables.reduce((n, t) => n + t.missing + t.extra + t.different, 0);
  return (
    <div className="table-scroll" tabIndex={0} role="region" aria-label="Differences">
      <Table size="sm" className="differences">
        <caption>
          {all > result.differences.length ? `The first ${count(result.differences.length)} of ${count(all)} differences` : all === 1 ? "1 difference" : `All ${count(all)} differences`}
        </caption>
        <thead>
          <tr>
            <th scope="col">table</th>
            <th scope="col">row</th>
            <th scope="col">what differs</th>
          </tr>
        </thead>
        <tbody>
          {result.differences.map((d) => (
            <tr key={`${d.table} ${JSON.stringify(d.key)}`}>
              <td>{d.table}</td>
              <td>
                {Object.entries(d.key)
                  .map(([name, value]) => `${name} ${value}`)
                  .join(", ")}
              </td>
              <td>
                {d.kind === "missing" && "missing in the database"}
                {d.kind === "extra" && "the source has no such row"}
                {d.columns?.map((c) => (
                  <div key={c.name}>
                    {c.name}: <code>{shown(c.source)}</code> at the source, <code>{shown(c.target)}</code> in the database
                  </div>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}

const shown = (value: string | null | undefined) => (value == null ? "null" : JSON.stringify(value));
