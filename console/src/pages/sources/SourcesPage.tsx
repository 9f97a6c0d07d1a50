import { Table } from "react-bootstrap";
import { Link } from "react-router-dom";
import { useSources } from "../../api/status";
import { bytes, count, rate, span } from "../../parts/numbers";
import { StateMark } from "../../parts/StateMark";

/** SourcesPage lists the databases whose changes are captured. */
export function SourcesPage() {
  const sources = useSources();
  return (
    <>
      <div className="page-head">
        <h1>Sources</h1>
        <Link to="/sources/new" className="btn btn-primary btn-sm">
          Add a source
        </Link>
      </div>
      {sources && sources.length === 0 && <p className="note">There are none yet. The steps check a database, show its tables and try it out before anything is stored.</p>}
      {sources && sources.length > 0 && (
        <div className="table-scroll" tabIndex={0} role="region" aria-label="Sources">
          <Table size="sm" className="counts">
            <thead>
              <tr>
                <th scope="col">source</th>
                <th scope="col">state</th>
                <th scope="col">database</th>
                <th scope="col" className="number">
                  tables
                </th>
                <th scope="col" className="number">
                  events
                </th>
                <th scope="col" className="number">
                  events/s
                </th>
                <th scope="col" className="number">
                  commit → journal
                </th>
                <th scope="col">log retained</th>
              </tr>
            </thead>
            <tbody>
              {sources.map((s) => (
                <tr key={s.name}>
                  <th scope="row">
                    <Link to={`/sources/${s.name}`}>{s.name}</Link>
                  </th>
                  <td>
                    <StateMark state={s.phase} />
                    {s.error && <span className="note"> {s.error}</span>}
                  </td>
                  <td>
                    {s.database} <span className="note">({s.engine})</span>
                  </td>
                  <td className="number">{count(s.tables.filter((t) => t.state !== "gone" && t.state !== "left-out").length)}</td>
                  <td className="number">{count(s.journal.events)}</td>
                  <td className="number">{rate(s.rate)}</td>
                  <td className="number">{s.delay_seconds === undefined ? "–" : span(s.delay_seconds)}</td>
                  <td>{s.retained_log ? <StateMark state={s.retained_log.level} word={bytes(s.retained_log.bytes)} /> : <span className="none">–</span>}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </>
  );
}
