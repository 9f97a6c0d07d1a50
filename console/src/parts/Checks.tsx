import type { Check } from "../api/types";
import { StateMark } from "./StateMark";

/** Checks are verdicts on readiness, one a line: what was found, why it matters,
 * and the statement that mends it. */
export function Checks({ checks }: { checks: Check[] }) {
  const missing = checks.filter((c) => c.verdict === "missing").length;
  return (
    <>
      <p role="status" className="check-sum">
        {missing === 0 ? "Ready: nothing is missing." : `Not ready: ${missing} ${missing === 1 ? "thing is" : "things are"} missing.`}
      </p>
      <ol className="checks">
        {checks.map((c, i) => (
          <li key={i} data-verdict={c.verdict}>
            <StateMark state={c.verdict} />
            <span className="check-name">{c.name}</span>
            <div>
              <div className="lines">{c.found}</div>
              {c.verdict !== "good" && c.why && <div className="note">{c.why}</div>}
              {c.verdict !== "good" && c.fix && <pre className="fix-statement">{c.fix}</pre>}
            </div>
          </li>
        ))}
      </ol>
    </>
  );
}
