/** Steps are the titles of a way in several steps; those behind can be gone back
 * to. */
export function Steps({ titles, step, onStep }: { titles: readonly string[]; step: number; onStep: (step: number) => void }) {
  return (
    <ol className="steps">
      {titles.map((title, i) => (
        <li key={title} className={i === step ? "now" : i < step ? "past" : ""} aria-current={i === step ? "step" : undefined}>
          {i < step ? (
            <button type="button" onClick={() => onStep(i)}>
              {title}
            </button>
          ) : (
            title
          )}
        </li>
      ))}
    </ol>
  );
}
