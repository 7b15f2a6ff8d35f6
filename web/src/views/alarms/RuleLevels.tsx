import type { ReactNode } from "react";
import { Severity } from "../../components/Severity";
import { SEVERITIES } from "../../components/severities";
import { type Draft, type DraftLevel, furtherLevel } from "./ruleDraft";

type Props = {
  draft: Draft;
  unit: string;
  change: (changed: Partial<Draft>) => void;
  /** What stands beside the heading. */
  children?: ReactNode;
};

const MOST = 5;
const SIDES = {
  above: ["above", "clear below"],
  below: ["below", "clear above"],
  outside: ["outside", "clear within"],
  away: ["away by", "clear within"],
  equal: ["is", ""],
  changed: ["to", ""],
} as const;

/** The levels of a rule, the mildest first: a severity, its limit, its clearing limit, and why the limit is where it is. */
export function RuleLevels({ draft, unit, change, children }: Props) {
  const { levels, direction, reference } = draft;
  const isState = direction === "equal" || direction === "changed";
  const isRange = direction === "outside" && !reference;
  const [side, back] = SIDES[reference && direction === "outside" ? "away" : direction];
  const set = (key: number, changed: Partial<DraftLevel>) =>
    change({ levels: levels.map((level) => (level.key === key ? { ...level, ...changed } : level)) });
  const figure = (level: DraftLevel, name: "limit" | "clear" | "low" | "lowClear", label: string) => (
    <input
      aria-label={`${label} of ${SEVERITIES[level.severity]?.word}`}
      className="field figures w-[58px] px-1 py-[3px] text-right"
      type="number"
      step="any"
      required
      value={level[name]}
      onChange={(event) => set(level.key, { [name]: event.target.value })}
    />
  );
  return (
    <>
      <h2 className="heading mt-3">
        Levels <span className="font-normal text-ink2">{unit && `in ${unit}`}</span>
        {children}
      </h2>
      {levels.map((level) => (
        <div key={level.key} className="border-b border-dotted border-rule py-1">
          <div className="flex flex-wrap items-center gap-1.5">
            <Severity level={level.severity} />
            <select
              aria-label="Severity"
              className="field w-[94px] px-0.5 py-[3px]"
              value={level.severity}
              onChange={(event) => set(level.key, { severity: Number(event.target.value) })}
            >
              {[5, 4, 3, 2, 1].map((each) => (
                <option key={each} value={each}>
                  {SEVERITIES[each]?.word}
                </option>
              ))}
            </select>
            <span className="text-ink2">{side}</span>
            {isRange && figure(level, "low", "Lower limit")}
            {isRange && <span className="text-ink2">to</span>}
            {figure(level, "limit", isState ? "Value" : "Limit")}
            {!isState && <span className="text-ink2">{back}</span>}
            {isRange && figure(level, "lowClear", "Lower clearing limit")}
            {isRange && <span className="text-ink2">to</span>}
            {!isState && figure(level, "clear", "Clearing limit")}
            {levels.length > 1 && (
              <button
                type="button"
                className="min-h-6 min-w-6 text-ink2 hover:text-ink"
                aria-label={`Remove ${SEVERITIES[level.severity]?.word}`}
                onClick={() => change({ levels: levels.filter(({ key }) => key !== level.key) })}
              >
                ×
              </button>
            )}
          </div>
          {level.why && <p className="pt-[2px] pl-[22px] text-small text-ink2">{level.why}</p>}
        </div>
      ))}
      {levels.length < MOST && (
        <button
          type="button"
          className="min-h-6 underline"
          onClick={() => change({ levels: [...levels, furtherLevel(levels)] })}
        >
          Add a level
        </button>
      )}
    </>
  );
}
