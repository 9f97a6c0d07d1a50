import { lazy, memo, Suspense } from "react";
import { Link } from "react-router-dom";
import { useLive, useOutlets, useSources } from "../../api/status";
import type { OutletStatus, SourceStatus } from "../../api/types";
import { few } from "./few";
import { Flow } from "./Flow";
import { Lately } from "./Lately";
import { TableCounts } from "./TableCounts";

// Fetched where there are many.
const Crowd = lazy(() => import("./Crowd").then((m) => ({ default: m.Crowd })));

/** OverviewPage draws the way of the data, source by source; of many sources and outlets
 * what needs a person first. */
export function OverviewPage() {
  const sources = useSources();
  const outlets = useOutlets();
  const lost = useLive((live) => live.lost);
  if (!sources || !outlets) {
    return (
      <section className="empty" aria-busy={!lost}>
        <h1>{lost ? "The service does not answer" : "Looking …"}</h1>
        {lost && <p>The page goes on by itself once it does. Is `rillmark serve` running?</p>}
      </section>
    );
  }
  if (sources.length === 0) {
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
      {few(sources, outlets) ? (
        sources.map((source) => <One key={source.name} source={source} outlets={outlets} />)
      ) : (
        <Suspense fallback={<p className="none">Loading …</p>}>
          <Crowd sources={sources} outlets={outlets} />
        </Suspense>
      )}
      <Lately changed={sources.map((s) => `${s.phase}${s.since}${s.doing}${s.code}`).join() + outlets.map((o) => o.phase).join()} />
    </>
  );
}

const One = memo(function One({ source, outlets }: { source: SourceStatus; outlets: OutletStatus[] }) {
  return (
    <section className="source" aria-label={`Source ${source.name}`}>
      <Flow source={source} outlets={outlets.filter((outlet) => outlet.source === source.name)} />
      <Counts source={source.name} tables={source.tables} />
    </section>
  );
});

const Counts = memo(TableCounts);
