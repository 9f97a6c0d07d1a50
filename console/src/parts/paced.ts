import { useEffect, useRef } from "react";

/** usePaced does something whenever a value has changed, at most once in so many milliseconds: what
 * is read anew by it is not read more often than that, and not at all while nothing changes. */
export function usePaced(value: unknown, every: number, act: () => unknown): void {
  const seen = useRef({ value, at: Date.now() });
  const latest = useRef(act);
  useEffect(() => {
    latest.current = act;
  });
  useEffect(() => {
    if (Object.is(value, seen.current.value)) {
      return;
    }
    const timer = setTimeout(
      () => {
        seen.current = { value, at: Date.now() };
        latest.current();
      },
      Math.max(0, seen.current.at + every - Date.now()),
    );
    return () => clearTimeout(timer);
  }, [value, every]);
}
