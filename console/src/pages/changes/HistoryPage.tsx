import { useQuery } from "@tanstack/react-query";
import { parse, stringify } from "lossless-json";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router-dom";
import { fetchText } from "../../api/client";
import { ChangeDetail } from "../../parts/changes/ChangeDetail";
import { ChangeList } from "../../parts/changes/ChangeList";
import { parseChange, type Change } from "../../parts/changes/change";
import { count } from "../../parts/numbers";
import { Trouble } from "../../parts/Trouble";

/** HistoryPage is one row: every version of it that the journal has. */
export function HistoryPage() {
  const { name = "", table = "" } = useParams();
  const [params] = useSearchParams();
  const keys = params.getAll("key");
  const [opened, setOpened] = useState<Change | null>(null);
  const query = new URLSearchParams(keys.map((k) => ["key", k])).toString();
  const { data, error } = useQuery({
    queryKey: ["history", name, table, query],
    queryFn: async () => read(await fetchText(`/v1/sources/${encodeURIComponent(name)}/tables/${encodeURIComponent(table)}/history?${query}`)),
    refetchOnWindowFocus: false,
  });
  const words = keys.map((k) => k.replace("=", " ")).join(", ");
  return (
    <div className={opened ? "changes with-detail" : "changes"}>
      <section className="changes-main" aria-label="History of a row">
        <div className="page-head">
          <h1>
            {table} {words}
          </h1>
          <span className="note">
            of <Link to={`/sources/${encodeURIComponent(name)}`}>{name}</Link>
          </span>
        </div>
        {!!error && <Trouble error={error} />}
        {!data && !error && <p aria-busy="true">Looking …</p>}
        {data && data.changes.length === 0 && (
          <p className="empty-list" role="status">
            The journal has no event of this row.
          </p>
        )}
        {data && data.changes.length > 0 && <ChangeList dated changes={data.changes} opened={opened?.serial} onOpen={setOpened} />}
        {data && (
          <p className="list-foot">
            {count(data.changes.length)} {data.changes.length === 1 ? "version" : "versions"}, the newest first
            {data.more ? "; there are older ones" : ""}
          </p>
        )}
      </section>
      {opened && <ChangeDetail change={opened} onClose={() => setOpened(null)} />}
    </div>
  );
}

/** read keeps numbers as they are. */
function read(text: string): { changes: Change[]; more: boolean } {
  const { events, more } = parse(text) as { events: { sequence: string }[]; more: boolean };
  const changes = events.map((e, i) => parseChange(e.sequence.replace(/^0+/, ""), stringify(e)!, i));
  return { changes: changes.reverse(), more };
}
