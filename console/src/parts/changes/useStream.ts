import { useEffect, useRef, useState } from "react";
import { parseChange, type Change } from "./change";

/** kept is how many changes a page holds; older ones are in the journal. */
export const kept = 5000;

/** useStream follows a stream of events, newest first. While paused, what comes is held
 * back and counted. ready is true once the stream is open; without an address there is
 * none. */
export function useStream(address: string | undefined, paused: boolean) {
  const [changes, setChanges] = useState<Change[]>([]);
  const [held, setHeld] = useState(0);
  const [error, setError] = useState("");
  const [ready, setReady] = useState(false);
  const waiting = useRef<Change[]>([]);
  const pausedNow = useRef(paused);
  pausedNow.current = paused;

  useEffect(() => {
    if (address === undefined) {
      return;
    }
    setChanges([]);
    setHeld(0);
    setError("");
    setReady(false);
    waiting.current = [];
    const source = new EventSource(address);
    let frame = 0;
    let serial = 0;
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
    source.onopen = () => setReady(true);
    source.onmessage = (message) => {
      setError("");
      waiting.current.push(parseChange(message.lastEventId, message.data, ++serial));
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
  }, [address]);

  useEffect(() => {
    if (!paused && waiting.current.length > 0) {
      const fresh = waiting.current.reverse();
      waiting.current = [];
      setHeld(0);
      setChanges((before) => [...fresh, ...before].slice(0, kept));
    }
  }, [paused]);

  return { changes, held, error, ready };
}
