import { Link } from "react-router-dom";
import { useStatus } from "../../api/status";
import { Flow } from "./Flow";
import { Lately } from "./Lately";
import { TableCounts } from "./TableCounts";

/** OverviewPage draws the way of the data, source by source. */
export function OverviewPage() {
  const { status, lost } = useStatus();
  if (!status) {
    return (
      <section className="empty" aria-busy={!lost}>
        <h1>{lost ? "The service does not answer" : "Looking …"}</h1>
        {lost && <p>The page goes on by itself once it does. Is `rillmark serve` running?</p>}
      </section>
    );
  }
  if (status.sources.length === 0) {
    return (
      <section className="empty">
        <h1>No sources yet</h1>
        <p>A source is a database whose changes are captured. The steps check it, show its tables and try it out before anything is stored.</p>
        <Link to="/sources/new" className="btn btn-primary">
          Add a source
        </Link>
      </section>
    );
  }
  return (
    <>
      <h1 className="visually-hidden">Overview</h1>
      {status.sources.map((source) => (
        <section key={source.name} className="source" aria-label={`Source ${source.name}`}>
          <Flow source={source} outlets={status.outlets.filter((outlet) => outlet.source === source.name)} />
          <TableCounts tables={source.tables} />
        </section>
      ))}
      <Lately changed={status.sources.map((s) => `${s.phase}${s.since}${s.doing}${s.code}`).join() + status.outlets.map((o) => o.phase).join()} />
    </>
  );
}
