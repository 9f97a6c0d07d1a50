import { useRef, useState } from "react";
import { useSources } from "../../api/status";
import type { SourceStatus } from "../../api/types";
import { ChangesView } from "../../parts/changes/ChangesView";
import { useStream } from "../../parts/changes/useStream";
import { Filters, type Filter } from "./Filters";

const lookBack = 200;

/** ChangesPage shows changes as they enter the journal. */
export function ChangesPage() {
  const sources = useSources();
  const [filter, setFilter] = useState<Filter>({ source: "", table: "", operations: [] });
  const [paused, setPaused] = useState(false);
  const name = filter.source || sources?.[0]?.name || "";
  const source = sources?.find((s) => s.name === name);
  const stream = useStream(useAddress({ ...filter, source: name }, source), paused);

  if (sources && sources.length === 0) {
    return (
      <section className="empty">
        <h1>No changes yet</h1>
        <p>There is no source. `rillmark source add --help` shows how to begin.</p>
      </section>
    );
  }
  return (
    <ChangesView
      key={name}
      label="Live changes"
      stream={stream}
      head={
        <>
          <h1 className="visually-hidden">Changes</h1>
          <Filters filter={{ ...filter, source: name }} onFilter={setFilter} sources={sources ?? []} paused={paused} onPause={setPaused} held={stream.held} />
        </>
      }
      empty={
        source?.phase === "paused"
          ? `Source ${name} is paused; ${"`"}rillmark source resume ${name}${"`"} starts it.`
          : "Nothing has come yet. Change a row in a captured table, and it shows here at once."
      }
    />
  );
}

/** useAddress is the stream of what a filter lets through. It begins a little before the
 * newest event that is known when the filter is chosen, and goes on by itself. */
function useAddress(filter: Filter, source?: SourceStatus): string | undefined {
  const begun = useRef({ chosen: "", from: 1 });
  if (!source) {
    return undefined;
  }
  const query = new URLSearchParams();
  if (filter.table) {
    query.append("table", filter.table);
  }
  filter.operations.forEach((operation) => query.append("operation", operation));
  const chosen = `${filter.source}?${query}`;
  if (begun.current.chosen !== chosen) {
    begun.current = { chosen, from: Math.max(source.journal.next - lookBack, source.journal.first, 1) };
  }
  query.append("from", String(begun.current.from));
  return `/v1/sources/${encodeURIComponent(filter.source)}/stream?${query}`;
}
