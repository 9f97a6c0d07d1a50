import { useState, type ReactNode } from "react";
import { count } from "../numbers";
import type { Change } from "./change";
import { ChangeDetail } from "./ChangeDetail";
import { ChangeList } from "./ChangeList";
import { kept, type useStream } from "./useStream";

interface Props {
  label: string;
  stream: ReturnType<typeof useStream>;
  /** head stands above the list, empty in its place while there is nothing. */
  head: ReactNode;
  empty: ReactNode;
}

/** ChangesView is a list of changes as they come, and the one that is opened. */
export function ChangesView({ label, stream: { changes, error }, head, empty }: Props) {
  const [opened, setOpened] = useState<Change | null>(null);
  return (
    <div className={opened ? "changes with-detail" : "changes"}>
      <section className="changes-main" aria-label={label}>
        {head}
        {error && (
          <p className="trouble" role="alert">
            {error}
          </p>
        )}
        {changes.length === 0 ? (
          <p className="empty-list" role="status">
            {empty}
          </p>
        ) : (
          <ChangeList changes={changes} opened={opened?.serial} onOpen={setOpened} />
        )}
        <p className="list-foot">
          {count(changes.length)} shown{changes.length === kept ? ", the newest; older ones are in the journal" : ""}
        </p>
      </section>
      {opened && <ChangeDetail change={opened} onClose={() => setOpened(null)} />}
    </div>
  );
}
