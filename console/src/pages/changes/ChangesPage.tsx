import { useState } from "react";
import { useStatus } from "../../api/status";
import { count } from "../../parts/numbers";
import type { Change } from "./change";
import { ChangeDetail } from "./ChangeDetail";
import { ChangeList } from "./ChangeList";
import { Filters } from "./Filters";
import { kept, useChanges, type Filter } from "./useChanges";

/** ChangesPage shows changes as they enter the journal. */
export function ChangesPage() {
  const { status } = useStatus();
  const [filter, setFilter] = useState<Filter>({ source: "", table: "", operations: [] });
  const [paused, setPaused] = useState(false);
  const [opened, setOpened] = useState<Change | null>(null);
  const name = filter.source || status?.sources[0]?.name || "";
  const source = status?.sources.find((s) => s.name === name);
  const { changes, held, error } = useChanges({ ...filter, source: name }, source?.journal.next, source?.journal.first ?? 1, paused);

  if (status && status.sources.length === 0) {
    return (
      <section className="empty">
        <h1>No changes yet</h1>
        <p>There is no source. `rillmark source add --help` shows how to begin.</p>
      </section>
    );
  }
  return (
    <div className={opened ? "changes with-detail" : "changes"}>
      <section className="changes-main" aria-label="Live changes">
        <h1 className="visually-hidden">Changes</h1>
        <Filters filter={{ ...filter, source: name }} onFilter={setFilter} sources={status?.sources ?? []} paused={paused} onPause={setPaused} held={held} />
        {error && (
          <p className="trouble" role="alert">
            {error}
          </p>
        )}
        {changes.length === 0 ? (
          <p className="empty-list" role="status">
            {source?.phase === "paused"
              ? `Source ${name} is paused; ${"`"}rillmark source resume ${name}${"`"} starts it.`
              : "Nothing has come yet. Change a row in a captured table, and it shows here at once."}
          </p>
        ) : (
          <ChangeList changes={changes} opened={opened?.offset} onOpen={setOpened} />
        )}
        <p className="list-foot">
          {count(changes.length)} shown{changes.length === kept ? ", the newest; older ones are in the journal" : ""}
        </p>
      </section>
      {opened && <ChangeDetail change={opened} onClose={() => setOpened(null)} />}
    </div>
  );
}
