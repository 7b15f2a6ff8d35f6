import { useState } from "react";
import { UNITS } from "./units";
import { type ChartView, GHOSTS, offsetSeconds, SCALES } from "./view";

type Props = { view: ChartView; onChange: (changes: Record<string, string>) => void };

const WORDS: Record<string, string> = { fit: "fitted", speed: "to the speed", log: "logarithmic" };

/** How a chart is drawn: unit, what it is compared with, scale. */
export function ChartTools({ view, onChange }: Props) {
  const [own, setOwn] = useState(false);
  const known = GHOSTS.some(([name]) => name === view.ghost);
  return (
    <div className="flex flex-wrap items-center gap-x-3">
      <fieldset aria-label="Unit" className="flex">
        {UNITS.map((unit) => (
          <button
            key={unit}
            type="button"
            aria-pressed={view.unit === unit}
            onClick={() => onChange({ unit: unit === "bits" ? "" : unit })}
            className={`h-6 px-1.5 ${view.unit === unit ? "marked" : "text-ink2 hover:text-ink"}`}
          >
            {unit}
          </button>
        ))}
      </fieldset>
      <label className="text-ink2">
        beside{" "}
        <select
          className="h-6 bg-paper text-ink underline"
          value={known ? view.ghost : "own"}
          onChange={(event) => {
            setOwn(event.target.value === "own");
            if (event.target.value !== "own") onChange({ ghost: event.target.value });
          }}
        >
          {GHOSTS.map(([name, words]) => (
            <option key={name} value={name}>
              {words}
            </option>
          ))}
          <option value="own">{known ? "another time…" : `${view.ghost} earlier`}</option>
        </select>
      </label>
      {own && (
        <input
          aria-label="How much earlier, as 36h or 3d"
          placeholder="36h or 3d"
          className="field h-6 w-20"
          onChange={(event) => offsetSeconds(event.target.value) > 0 && onChange({ ghost: event.target.value })}
        />
      )}
      <label className="text-ink2">
        scale{" "}
        <select
          className="h-6 bg-paper text-ink underline"
          value={view.scale}
          onChange={(event) => onChange({ scale: event.target.value === "fit" ? "" : event.target.value })}
        >
          {SCALES.map((scale) => (
            <option key={scale} value={scale}>
              {WORDS[scale]}
            </option>
          ))}
        </select>
      </label>
      <button
        type="button"
        aria-pressed={view.table}
        className={`h-6 px-1 ${view.table ? "marked" : "text-ink2 underline hover:text-ink"}`}
        onClick={() => onChange({ table: view.table ? "" : "1" })}
      >
        table
      </button>
    </div>
  );
}
