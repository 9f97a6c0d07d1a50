const shapes: Record<string, { shape: string; tone: string }> = {
  running: { shape: "disc", tone: "good" },
  following: { shape: "disc", tone: "good" },
  pull: { shape: "ring", tone: "good" },
  starting: { shape: "half", tone: "busy" },
  loading: { shape: "half", tone: "busy" },
  new: { shape: "ring", tone: "busy" },
  "to-load": { shape: "ring", tone: "busy" },
  standby: { shape: "ring", tone: "quiet" },
  waiting: { shape: "diamond", tone: "warn" },
  incomplete: { shape: "diamond", tone: "warn" },
  stale: { shape: "diamond", tone: "warn" },
  unpublished: { shape: "diamond", tone: "warn" },
  "not-loaded": { shape: "cross", tone: "bad" },
  failed: { shape: "cross", tone: "bad" },
  paused: { shape: "bars", tone: "quiet" },
  loaded: { shape: "disc", tone: "quiet" },
  good: { shape: "disc", tone: "good" },
  note: { shape: "diamond", tone: "warn" },
  missing: { shape: "cross", tone: "bad" },
  fine: { shape: "disc", tone: "good" },
  warning: { shape: "diamond", tone: "warn" },
  urgent: { shape: "cross", tone: "bad" },
  unaffected: { shape: "disc", tone: "good" },
  differs: { shape: "half", tone: "busy" },
  loses: { shape: "diamond", tone: "warn" },
  holds: { shape: "cross", tone: "bad" },
  gone: { shape: "ring", tone: "quiet" },
  "left-out": { shape: "ring", tone: "quiet" },
};

/** StateMark tells a state by shape, colour and word. */
export function StateMark({ state, word }: { state: string; word?: string }) {
  const { shape, tone } = shapes[state] ?? { shape: "ring", tone: "quiet" };
  return (
    <span className={`state-mark tone-${tone}`}>
      <svg viewBox="0 0 12 12" width="11" height="11" aria-hidden="true">
        {shape === "disc" && <circle cx="6" cy="6" r="5" className="filled" />}
        {shape === "ring" && <circle cx="6" cy="6" r="4" className="drawn" />}
        {shape === "half" && (
          <>
            <circle cx="6" cy="6" r="4" className="drawn" />
            <path d="M6 2a4 4 0 0 1 0 8z" className="filled" />
          </>
        )}
        {shape === "diamond" && <path d="M6 .5 11.5 6 6 11.5.5 6z" className="filled" />}
        {shape === "cross" && <path d="M2 2l8 8M10 2l-8 8" className="drawn" />}
        {shape === "bars" && <path d="M4 2v8M8 2v8" className="drawn" />}
      </svg>
      <span>{word ?? state}</span>
    </span>
  );
}
