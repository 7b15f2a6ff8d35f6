/** One step of a trial, as the API tells it. */
export type Step = { title: string; went: "well" | "wrong" | "note"; words: string; at_ms: number; took_ms: number };

const MARKS = { well: "✓", wrong: "✕", note: "·" };
const COLOURS = { well: "text-in", wrong: "text-critical", note: "text-ink2" };

/** What was tried, in the order in which it ended. */
export function Steps({ steps }: { steps: Step[] }) {
  return (
    <ol className="figures" aria-live="polite">
      {steps.map((step) => (
        <li
          key={`${step.title} ${step.at_ms} ${step.words}`}
          className="grid grid-cols-[16px_150px_minmax(0,1fr)_64px] gap-2 border-b border-faint py-1"
        >
          <b className={COLOURS[step.went]}>
            <span aria-hidden>{MARKS[step.went]}</span>
            <span className="sr-only">{step.went}</span>
          </b>
          <span className="truncate" title={step.title}>
            {step.title}
          </span>
          <span className={step.went === "wrong" ? "" : "text-ink2"}>{step.words}</span>
          <span className="text-right text-ink2">
            {step.took_ms > 0 && step.took_ms.toFixed(step.took_ms < 10 ? 1 : 0)}
            {step.took_ms > 0 && <span className="unit">ms</span>}
          </span>
        </li>
      ))}
    </ol>
  );
}
