import type { OutletStatus, SourceStatus } from "../../api/types";
import { useMarks } from "../../api/client";
import { count } from "../../parts/numbers";

/** JournalLine is the journal as a line from its oldest offset to its newest,
 * with a notch where each outlet stands, and a flag at each mark. */
export function JournalLine({ source, journal, outlets }: { source: string; journal: SourceStatus["journal"]; outlets: OutletStatus[] }) {
  const { data: marks } = useMarks(source);
  const length = Math.max(journal.next - journal.first, 1);
  const place = (committed: number) => Math.min(Math.max((committed + 1 - journal.first) / length, 0), 1) * 100;
  const said = outlets.map((o) => `${o.name} at ${count(o.committed)}`).join(", ");
  const groups = grouped(outlets.map((o) => ({ name: o.name, at: place(o.committed) })));
  return (
    <figure
      className="journal-line"
      aria-label={`Offsets ${count(journal.first)} to ${count(journal.next - 1)}${said ? "; " + said : ""}${marks?.length ? "; marks " + marks.map((m) => `${m.name} at ${count(m.offset)}`).join(", ") : ""}`}
    >
      <div className="line">
        {outlets.map((o) => (
          <span key={o.name} className="notch" style={{ left: `${place(o.committed)}%` }} title={`${o.name}: committed ${count(o.committed)}`} />
        ))}
        {groups.map((g, i) => (
          <span key={g.names[0]} className={`notch-label ${i % 2 ? "below" : "above"} ${g.at > 70 ? "late" : ""}`} style={{ left: `${g.at}%` }}>
            {g.names.length > 3 ? `${g.names.length} outlets` : g.names.join(", ")}
          </span>
        ))}
        {marks?.map((m) => (
          <span key={m.name} className="flag" style={{ left: `${place(m.offset - 1)}%` }} title={`mark ${m.name}: offset ${count(m.offset)}${m.reason ? `, ${m.reason}` : ""}`}>
            <svg viewBox="0 0 8 12" width="8" height="12" aria-hidden="true">
              <path d="M1 0v12M1 1l6 2.5L1 6" />
            </svg>
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

/** near is how close two notches share a label, in parts of a hundred. */
const near = 12;

function grouped(notches: { name: string; at: number }[]): { at: number; names: string[] }[] {
  const groups: { at: number; names: string[] }[] = [];
  for (const n of [...notches].sort((a, b) => a.at - b.at)) {
    const last = groups.at(-1);
    if (last && n.at - last.at < near) {
      last.names.push(n.name);
      last.at = n.at;
    } else {
      groups.push({ at: n.at, names: [n.name] });
    }
  }
  return groups;
}
