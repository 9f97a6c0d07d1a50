import { Refused } from "../api/client";

/** Trouble is an error in words, with what to do where that is known. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) {
    return null;
  }
  return (
    <p className="trouble" role="alert">
      {error instanceof Error ? error.message : String(error)}
      {error instanceof Refused && error.fix && <span className="fix"> Fix: {error.fix}.</span>}
    </p>
  );
}
