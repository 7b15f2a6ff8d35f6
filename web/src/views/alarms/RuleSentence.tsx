import type { ReactNode } from "react";
import type { Draft, Vocabulary } from "./ruleDraft";
import { SUBJECTS } from "./ruleWords";

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

/** What a rule watches, as a sentence with fields in it. */
export function RuleSentence({ draft, words, change }: Props) {
  const measure = words.measures.find(({ name }) => name === draft.measure);
  const subject = measure?.subject ?? "interface";
  const hasWindow = words.statistics.find(({ name }) => name === draft.statistic)?.has_window ?? false;
  const noun = subject === "device" ? "polls" : "readings";
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
      <Select label="Measure" value={draft.measure} onChange={(name) => change({ measure: name })}>
        {Object.entries(SUBJECTS).map(([kind, title]) => (
          <optgroup key={kind} label={title}>
            {words.measures
              .filter((each) => each.subject === kind)
              .map(({ name, words: text }) => (
                <option key={name} value={name}>
                  {text.toLowerCase()}
                </option>
              ))}
          </optgroup>
        ))}
      </Select>{" "}
      {hasWindow && (
        <>
          over <Figure label="Window in minutes" value={draft.minutes} onChange={(minutes) => change({ minutes })} />{" "}
          min{" "}
        </>
      )}
      for {SUBJECTS[subject]}
      {subject === "interface" ? (
        <>
          {" "}
          where{" "}
          <input
            aria-label="Ports where"
            className={`${word} max-w-full min-w-[200px] font-normal`}
            spellCheck={false}
            placeholder="empty: all ports"
            value={draft.scope}
            onChange={(event) => change({ scope: event.target.value })}
          />
        </>
      ) : (
        ", all of them"
      )}
      . Raise an alarm when it is{" "}
      <Select
        label="Direction"
        value={draft.above ? "above" : "below"}
        onChange={(side) => change({ above: side === "above" })}
      >
        <option>above</option>
        <option>below</option>
      </Select>{" "}
      a limit{" "}
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
      )}
    </div>
  );
}
