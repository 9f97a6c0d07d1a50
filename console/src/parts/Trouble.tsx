import { Refused } from "../api/client";

/** ended is a text as a sentence: with a full stop, where it has no end of its own. */
const ended = (text: string) => (/[.!?…]$/.test(text) ? text : `${text}.`);

/** Trouble is an error in words, with what to do where that is known. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) {
    return null;
  }
  const fix = error instanceof Refused ? error.fix : "";
  const message = error instanceof Error ? error.message : String(error);
  return (
    <p className="trouble" role="alert">
      {fix ? ended(message) : message}
      {fix && <span className="fix"> Fix: {ended(fix)}</span>}
    </p>
  );
}
