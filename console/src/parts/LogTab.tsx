import { useLog } from "../api/client";
import { LogLines } from "./LogLines";
import { Trouble } from "./Trouble";

/** LogTab is the part of the log of the run that is about a source or an outlet,
 * over the last day. */
export function LogTab({ subject, changed }: { subject: string; changed: string }) {
  const { data, error } = useLog(500, changed, subject);
  return (
    <section className="lately one-subject" aria-label={`Log of ${subject}`}>
      <Trouble error={error} />
      {data?.length === 0 && <p className="note">Nothing has happened in the last day.</p>}
      <LogLines entries={data} />
    </section>
  );
}
