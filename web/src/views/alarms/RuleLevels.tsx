import { Severity } from "../../components/Severity";
import { SEVERITIES } from "../../components/severities";
import { type Draft, type DraftLevel, furtherLevel } from "./ruleDraft";

type Props = { draft: Draft; unit: string; change: (changed: Partial<Draft>) => void };

const MOST = 5;

/** The levels of a rule, the mildest first: a severity, its limit, its clearing limit, and why the limit is where it is. */
export function RuleLevels({ draft, unit, change }: Props) {
  const { levels, above } = draft;
  const set = (key: number, changed: Partial<DraftLevel>) =>
    change({ levels: levels.map((level) => (level.key === key ? { ...level, ...changed } : level)) });
  const figure = (level: DraftLevel, name: "limit" | "clear", label: string) => (
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
            <span className="text-ink2">{above ? "above" : "below"}</span>
            {figure(level, "limit", "Limit")}
            <span className="text-ink2">clear {above ? "below" : "above"}</span>
            {figure(level, "clear", "Clearing limit")}
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
