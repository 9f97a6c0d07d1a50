import type { OutletStatus, SourceStatus } from "../../api/types";
import { count } from "../../parts/numbers";

/** JournalLine is the journal as a line from its oldest offset to its newest,
 * with a notch where each outlet stands. */
export function JournalLine({ journal, outlets }: { journal: SourceStatus["journal"]; outlets: OutletStatus[] }) {
  const length = Math.max(journal.next - journal.first, 1);
  const place = (committed: number) => Math.min(Math.max((committed + 1 - journal.first) / length, 0), 1) * 100;
  const said = outlets.map((o) => `${o.name} at ${count(o.committed)}`).join(", ");
  return (
    <figure className="journal-line" aria-label={`Offsets ${count(journal.first)} to ${count(journal.next - 1)}${said ? "; " + said : ""}`}>
      <div className="line">
        {outlets.map((o, i) => (
          <span key={o.name} className={`notch ${i % 2 ? "below" : "above"} ${place(o.committed) > 80 ? "late" : ""}`} style={{ left: `${place(o.committed)}%` }} title={`${o.name}: committed ${count(o.committed)}`}>
            <span className="label">{o.name}</span>
          </span>
        ))}
      </div>
      <figcaption>
        <span>{count(journal.first)}</span>
        <span>{count(Math.max(journal.next - 1, 0))}</span>
      </figcaption>
    </figure>
  );
}
