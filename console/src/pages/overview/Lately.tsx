import { useLog } from "../../api/client";
import { LogLines } from "../../parts/LogLines";

/** Lately is the end of the log of the run. */
export function Lately({ changed }: { changed: string }) {
  const { data, error } = useLog(12, changed);
  return (
    <section className="lately" aria-label="Log of the run">
      <h2>Lately</h2>
      {error && <p className="trouble">{error.message}</p>}
      <LogLines entries={data} withSubject />
    </section>
  );
}
