import { useLog } from "../../api/client";
import { LogLines } from "../../parts/LogLines";
import { Trouble } from "../../parts/Trouble";

/** LogTab is the source's part of the log of the run, over the last day. */
export function LogTab({ name, changed }: { name: string; changed: string }) {
  const { data, error } = useLog(500, changed, `source/${name}`);
  return (
    <section className="lately one-subject" aria-label="Log of the source">
      <Trouble error={error} />
      {data?.length === 0 && <p className="note">Nothing has happened in the last day.</p>}
      <LogLines entries={data} />
    </section>
  );
}
