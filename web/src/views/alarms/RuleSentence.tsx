import type { ReactNode } from "react";
import { FormulaField } from "./FormulaField";
import type { Draft, Vocabulary } from "./ruleDraft";
import { subjectOf } from "./ruleDraft";
import { nounOf, SUBJECTS } from "./ruleWords";

type Props = { draft: Draft; words: Vocabulary; change: (changed: Partial<Draft>) => void };

const word = "h-[26px] rounded border border-ink2 bg-sheet px-1 font-medium [field-sizing:content]";

function Select({
  label,
  value,
  onChange,
  children,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  children: ReactNode;
}) {
  return (
    <select
      aria-label={label}
      className={`${word} max-w-full`}
      value={value}
      onChange={(event) => onChange(event.target.value)}
    >
      {children}
    </select>
  );
}

function Figure({ label, value, onChange }: { label: string; value: string; onChange: (value: string) => void }) {
  return (
    <input
      aria-label={label}
      className={`${word} figures min-w-10 text-right`}
      type="number"
      min="0"
      step="any"
      required
      value={value}
      onChange={(event) => onChange(event.target.value)}
    />
  );
}

const DIRECTIONS = [
  ["above", "above"],
  ["below", "below"],
  ["outside", "outside"],
  ["equal", "equal to"],
  ["changed", "changed to"],
] as const;
const STATES: readonly string[] = ["equal", "changed"];

/** What a rule watches, as a sentence with fields in it. */
export function RuleSentence({ draft, words, change }: Props) {
  const isFormula = draft.measure.startsWith("=");
  const subject = subjectOf(words, draft.measure);
  const hasWindow = words.statistics.find(({ name }) => name === draft.statistic)?.has_window ?? false;
  const noun = `${nounOf(subject)}s`;
  return (
    <div className="my-2 leading-[2.35]">
      Watch{" "}
      <Select label="Statistic" value={draft.statistic} onChange={(statistic) => change({ statistic })}>
        {words.statistics.map(({ name, words: text }) => (
          <option key={name} value={name}>
            {text}
          </option>
        ))}
      </Select>{" "}
      of{" "}
      <Select
        label="Measure"
        value={isFormula ? "=" : draft.measure}
        onChange={(name) => change({ measure: name === "=" ? `= ${draft.measure}` : name })}
      >
        {Object.entries(SUBJECTS).map(([kind, title]) => (
          <optgroup key={kind} label={title}>
            {words.measures
              .filter((each) => each.subject === kind)
              .map(({ name, words: text }) => (
                <option key={name} value={name}>
                  {text.charAt(0).toLowerCase() + text.slice(1)}
                </option>
              ))}
          </optgroup>
        ))}
        <option value="=">a formula …</option>
      </Select>{" "}
      {isFormula && <FormulaField draft={draft} words={words} change={change} />}
      {hasWindow && (
        <>
          over <Figure label="Window in minutes" value={draft.minutes} onChange={(minutes) => change({ minutes })} />{" "}
          min{" "}
        </>
      )}
      <Select
        label="Compared with"
        value={draft.reference}
        onChange={(reference) => change({ reference: reference as Draft["reference"] })}
      >
        <option value="">as it is</option>
        {words.references.map(({ name, words: text }) => (
          <option key={name} value={name}>
            against {name === "learned" ? "its usual range" : text}
          </option>
        ))}
      </Select>{" "}
      for {SUBJECTS[subject]} where{" "}
      <input
        aria-label={`${SUBJECTS[subject]?.replace(/^./, (letter) => letter.toUpperCase())} where`}
        className={`${word} max-w-full min-w-[200px] font-normal`}
        spellCheck={false}
        placeholder={`empty: all ${SUBJECTS[subject]}`}
        value={draft.scope}
        onChange={(event) => change({ scope: event.target.value })}
      />
      . Raise an alarm when it is{" "}
      <Select
        label="Direction"
        value={draft.direction}
        onChange={(direction) => change({ direction: direction as Draft["direction"] })}
      >
        {DIRECTIONS.filter(([name]) => !draft.reference || !STATES.includes(name)).map(([name, text]) => (
          <option key={name} value={name}>
            {text}
          </option>
        ))}
      </Select>{" "}
      {STATES.includes(draft.direction) ? "a value" : draft.direction === "outside" ? "its limits" : "a limit"}{" "}
      <Select label="How long" value={draft.held} onChange={(held) => change({ held: held as Draft["held"] })}>
        <option value="times">in</option>
        <option value="for">for</option>
      </Select>{" "}
      {draft.held === "for" ? (
        <>
          <Figure
            label="Hold in minutes"
            value={draft.holdMinutes}
            onChange={(holdMinutes) => change({ holdMinutes })}
          />{" "}
          min.
        </>
      ) : (
        <>
          <Figure label="Times" value={draft.times} onChange={(times) => change({ times })} /> of the last{" "}
          <Figure label="Of the last" value={draft.of} onChange={(of) => change({ of })} /> {noun}.
        </>
      )}{" "}
      It holds{" "}
      <input
        aria-label="Hours"
        className={`${word} max-w-full min-w-[120px] font-normal`}
        spellCheck={false}
        placeholder="always; or Mon-Fri 08:00-18:00"
        value={draft.hours}
        onChange={(event) => change({ hours: event.target.value })}
      />
      {draft.hours.trim() && (
        <>
          {" "}
          in{" "}
          <input
            aria-label="Time zone"
            className={`${word} max-w-full font-normal`}
            spellCheck={false}
            value={draft.zone}
            onChange={(event) => change({ zone: event.target.value })}
          />
        </>
      )}
      .
    </div>
  );
}
