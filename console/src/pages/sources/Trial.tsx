import { useEffect, useRef, useState } from "react";
import { Button, Table } from "react-bootstrap";
import { Refused, sendForLines } from "../../api/client";
import type { SourceDefinition, TrialLine } from "../../api/types";
import { OperationMark } from "../../parts/OperationMark";
import { count, localClock } from "../../parts/numbers";
import { Trouble } from "../../parts/Trouble";

const kept = 200;

/** Trial follows the chosen tables for a minute and leaves nothing behind. */
export function Trial({ name, definition }: { name: string; definition: SourceDefinition }) {
  const [phase, setPhase] = useState<"" | "starting" | "watching" | "done">("");
  const [events, setEvents] = useState<NonNullable<TrialLine["event"]>[]>([]);
  const [counts, setCounts] = useState<Map<string, number>>(new Map());
  const [trouble, setTrouble] = useState<unknown>();
  const abort = useRef<AbortController | null>(null);
  useEffect(() => () => abort.current?.abort(), []);
  const begin = async () => {
    abort.current = new AbortController();
    setEvents([]);
    setCounts(new Map());
    setTrouble(undefined);
    setPhase("starting");
    try {
      await sendForLines<TrialLine>(
        `/v1/sources/${name}/try?seconds=60`,
        definition,
        (line) => {
          if (line.ready) {
            setPhase("watching");
          }
          if (line.problem) {
            throw new Refused(200, line.problem.detail ?? "", line.problem.fix);
          }
          const event = line.event;
          if (event) {
            setEvents((before) => [event, ...before].slice(0, kept));
            const of = `${event.data.table ?? "message"} ${event.data.operation}`;
            setCounts((before) => new Map(before).set(of, (before.get(of) ?? 0) + 1));
          }
        },
        abort.current.signal,
      );
    } catch (error) {
      if (!(error instanceof DOMException && error.name === "AbortError")) {
        setTrouble(error);
      }
    }
    setPhase("done");
  };
  const going = phase === "starting" || phase === "watching";
  return (
    <section aria-label="Trial">
      <div className="page-head">
        {going ? (
          <Button size="sm" variant="outline-secondary" onClick={() => abort.current?.abort()}>
            That is enough
          </Button>
        ) : (
          <Button size="sm" onClick={begin}>
            {phase === "done" ? "Try again" : "Try it for a minute"}
          </Button>
        )}
        <span role="status" className="note">
          {phase === "starting" && "Making a slot for the trial; it waits for open transactions that have written."}
          {phase === "watching" && "Watching. Change a row of a chosen table, and see it here."}
          {phase === "done" && !trouble && "Over; nothing is left behind on the database."}
        </span>
      </div>
      <Trouble error={trouble} />
      {counts.size > 0 && (
        <ul className="trial-counts">
          {[...counts.entries()].sort().map(([of, n]) => (
            <li key={of}>
              {of} <strong>{count(n)}</strong>
            </li>
          ))}
        </ul>
      )}
      {events.length > 0 && (
        <div className="table-scroll trial-events" tabIndex={0} role="region" aria-label="Events of the trial">
          <Table size="sm" className="counts">
            <tbody>
              {events.map((e) => (
                <tr key={e.sequence}>
                  <td>{localClock(e.time)}</td>
                  <td>
                    <OperationMark operation={e.data.operation} />
                  </td>
                  <td>{e.data.table}</td>
                  <td className="code">{e.data.key && short(e.data.key)}</td>
                  <td className="code columns-cell">{short(e.data.after ?? e.data.before)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </section>
  );
}

function short(image: Record<string, unknown> | null | undefined): string {
  return Object.entries(image ?? {})
    .map(([name, value]) => `${name} ${typeof value === "object" && value !== null ? JSON.stringify(value) : String(value)}`)
    .join(", ")
    .slice(0, 160);
}
