import type { LogEntry } from "../api/types";
import { localMoment } from "./numbers";

/** LogLines is a part of the log of the run, newest first; the subject is left out
 * where all lines have the same. */
export function LogLines({ entries, withSubject }: { entries?: LogEntry[]; withSubject?: boolean }) {
  return (
    <ol>
      {entries?.map((entry) => (
        <li key={entry.id} className={`level-${entry.level}`}>
          <time dateTime={entry.at} title={entry.at}>
            {localMoment(entry.at)}
          </time>
          {withSubject && <span className="subject">{entry.subject}</span>}
          <span className="message">
            {entry.level !== "info" && <strong>{entry.level}: </strong>}
            {entry.message}
          </span>
        </li>
      ))}
    </ol>
  );
}
