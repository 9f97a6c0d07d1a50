import { Table } from "react-bootstrap";
import { Link } from "react-router-dom";
import { useOutlets } from "../../api/status";
import { count, rate, span } from "../../parts/numbers";
import { incompleteWords, outletState, worstFirst } from "../../parts/attention";
import { StateMark } from "../../parts/StateMark";
import { Destinations } from "./Destinations";
import { SharedForms } from "./SharedForms";

/** OutletsPage lists the consumers of all journals. */
export function OutletsPage() {
  const outlets = useOutlets();
  return (
    <>
      <div className="page-head">
        <h1>Outlets</h1>
        <Link to="/outlets/new" className="btn btn-primary btn-sm">
          Add an outlet
        </Link>
      </div>
      {outlets && outlets.length === 0 && (
        <p className="note">There are none yet: the journals are filled, and nobody takes from them. The steps check where events go, and show what would be sent.</p>
      )}
      {outlets && outlets.length > 0 && (
        <div className="table-scroll" tabIndex={0} role="region" aria-label="Outlets">
          <Table size="sm" className="counts">
            <thead>
              <tr>
                <th scope="col">outlet</th>
                <th scope="col">state</th>
                <th scope="col">source</th>
                <th scope="col">destination</th>
                <th scope="col" className="number">
                  committed
                </th>
                <th scope="col" className="number">
                  behind
                </th>
                <th scope="col" className="number">
                  lag
                </th>
                <th scope="col" className="number">
                  events/s
                </th>
                <th scope="col" className="number">
                  delivered
                </th>
                <th scope="col" className="number">
                  dead letters
                </th>
              </tr>
            </thead>
            <tbody>
              {worstFirst(outlets).map((o) => (
                <tr key={o.name}>
                  <th scope="row">
                    <Link to={`/outlets/${o.name}`}>{o.name}</Link>
                  </th>
                  <td>
                    <StateMark state={outletState(o)} />
                    {!!o.incomplete?.length && <div className="note-cell">{incompleteWords(o)}</div>}
                    {o.error && <div className="note-cell">{o.error}</div>}
                  </td>
                  <td>{o.source}</td>
                  <td>{o.destination ? `${o.kind} ${o.destination}` : "consumers read"}</td>
                  <td className="number">{count(o.committed)}</td>
                  <td className="number">{count(o.behind_events)}</td>
                  <td className="number">{o.behind_events ? span(o.behind_seconds) : "–"}</td>
                  <td className="number">{rate(o.rate)}</td>
                  <td className="number">{count(o.delivered)}</td>
                  <td className="number">{o.dead_letters + o.waiting_behind ? <Link to={`/outlets/${o.name}/dead-letters`}>{count(o.dead_letters + o.waiting_behind)}</Link> : "–"}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      <Destinations />
      {outlets && <SharedForms />}
    </>
  );
}
