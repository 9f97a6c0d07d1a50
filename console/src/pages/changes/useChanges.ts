import { useEffect, useRef, useState } from "react";
import { parseChange, type Change } from "./change";

/** kept is how many changes the page holds; older ones are in the journal. */
export const kept = 5000;
const lookBack = 200;

export interface Filter {
  source: string;
  table: string;
  operations: string[];
}

/** useChanges follows a source's live stream, newest first. While paused, what
 * comes is held back and counted. */
export function useChanges(filter: Filter, next: number | undefined, first: number, paused: boolean) {
  const [changes, setChanges] = useState<Change[]>([]);
  const [held, setHeld] = useState(0);
  const [error, setError] = useState("");
  const waiting = useRef<Change[]>([]);
  const pausedNow = useRef(paused);
  pausedNow.current = paused;
  const known = next !== undefined;
  const operations = filter.operations.join();

  useEffect(() => {
    if (!known) {
      return;
    }
    setChanges([]);
    setHeld(0);
    setError("");
    waiting.current = [];
    const query = new URLSearchParams({ from: String(Math.max(next! - lookBack, first, 1)) });
    if (filter.table) {
      query.append("table", filter.table);
    }
    operations
      .split(",")
      .filter(Boolean)
      .forEach((operation) => query.append("operation", operation));
    const source = new EventSource(`/v1/sources/${encodeURIComponent(filter.source)}/stream?${query}`);
    let frame = 0;
    const take = () => {
      frame = 0;
      if (pausedNow.current) {
        waiting.current = waiting.current.slice(-kept);
        setHeld(waiting.current.length);
        return;
      }
      const fresh = waiting.current.reverse();
      waiting.current = [];
      setChanges((before) => [...fresh, ...before].slice(0, kept));
    };
    source.onmessage = (message) => {
      setError("");
      waiting.current.push(parseChange(message.lastEventId, message.data));
      frame ||= requestAnimationFrame(take);
    };
    source.addEventListener("problem", (message) => {
      setError(JSON.parse((message as MessageEvent).data).detail);
      source.close();
    });
    source.onerror = () =>
      setError(source.readyState === EventSource.CLOSED ? "The service does not give this stream: is the table's pattern right?" : "The stream was interrupted; it goes on by itself.");
    return () => {
      cancelAnimationFrame(frame);
      source.close();
    };
    // next and first say where a stream begins; it goes on by itself from there.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [filter.source, filter.table, operations, known]);

  useEffect(() => {
    if (!paused && waiting.current.length > 0) {
      const fresh = waiting.current.reverse();
      waiting.current = [];
      setHeld(0);
      setChanges((before) => [...fresh, ...before].slice(0, kept));
    }
  }, [paused]);

  return { changes, held, error };
}
