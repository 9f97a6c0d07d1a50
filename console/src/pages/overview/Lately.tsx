import { useLog } from "../../api/client";
import { localMoment } from "../../parts/numbers";

/** Lately is the end of the log of the run. */
export function Lately({ changed }: { changed: string }) {
  const { data, error } = useLog(12, changed);
  return (
    <section className="lately" aria-label="Log of the run">
      <h2>Lately</h2>
      {error && <p className="trouble">{error.message}</p>}
      <ol>
        {data?.map((entry) => (
          <li key={entry.id} className={`level-${entry.level}`}>
            <time dateTime={entry.at} title={entry.at}>
              {localMoment(entry.at)}
            </time>
            <span className="subject">{entry.subject}</span>
            <span className="message">
              {entry.level !== "info" && <strong>{entry.level}: </strong>}
              {entry.message}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
