import { useEffect, useState } from "react";
import { Table } from "react-bootstrap";
import { localClock } from "../../parts/numbers";
import { OperationMark } from "../../parts/OperationMark";
import { keyText, parseChange, summary, type Change } from "../changes/change";

const kept = 300;

/** LiveTab shows what an outlet lets through, as it comes. */
export function LiveTab({ name }: { name: string }) {
  const [changes, setChanges] = useState<Change[]>([]);
  const [error, setError] = useState("");
  const [open, setOpen] = useState(false);
  useEffect(() => {
    setChanges([]);
    setOpen(false);
    const source = new EventSource(`/v1/outlets/${name}/stream?from=now&as=cloudevents`);
    source.onopen = () => setOpen(true);
    source.onmessage = (message) => {
      setError("");
      setChanges((before) => [parseChange(message.lastEventId, message.data), ...before].slice(0, kept));
    };
    source.addEventListener("problem", (message) => {
      setError(JSON.parse((message as MessageEvent).data).detail);
      source.close();
    });
    source.onerror = () => setError("The stream was interrupted; it goes on by itself.");
    return () => source.close();
  }, [name]);
  return (
    <section aria-label="What the outlet lets through">
      {error && (
        <p className="trouble" role="alert">
          {error}
        </p>
      )}
      {!open && !error && <p aria-busy="true">Looking …</p>}
      {open && changes.length === 0 && <p className="note">Nothing has come through yet. A change that the outlet lets through shows here at once; one that it keeps back does not.</p>}
      {changes.length > 0 && (
        <div className="table-scroll live-events" tabIndex={0} role="region" aria-label="Events">
          <Table size="sm" className="counts">
            <tbody>
              {changes.map((c) => (
                <tr key={c.offset + c.raw.slice(0, 80)}>
                  <td className="number">{c.offset}</td>
                  <td>{localClock(c.time)}</td>
                  <td>
                    <OperationMark operation={c.operation} />
                  </td>
                  <td>{c.table}</td>
                  <td className="code columns-cell">{keyText(c.key)}</td>
                  <td className="code columns-cell">{summary(c)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </section>
  );
}
