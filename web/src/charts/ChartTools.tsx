import { useState } from "react";
import { useSetSearch } from "../app/useSetSearch";
import { InlineChoice } from "../components/InlineChoice";
import { InlineToggles } from "../components/InlineToggles";
import { UNITS } from "./units";
import { type ChartView, GHOSTS, offsetSeconds } from "./view";

const SCALES = [
  ["fit", "fitted"],
  ["speed", "to the speed"],
  ["log", "logarithmic"],
] as const;

/** How a chart is drawn: unit, what it is compared with, scale, and whether its table stands below. */
export function ChartTools({ view }: { view: ChartView }) {
  const set = useSetSearch();
  const [own, setOwn] = useState(false);
  const known = GHOSTS.some(([name]) => name === view.ghost);
  const ghosts = [...GHOSTS, ["own", known ? "another time…" : `${view.ghost} earlier`] as const];
  return (
    <div className="flex flex-wrap items-center gap-x-3">
      <InlineToggles
        label="Unit"
        value={view.unit}
        options={UNITS.map((unit) => [unit, unit])}
        onChoose={(unit) => set({ unit: unit === "bits" ? "" : unit })}
      />
      <InlineChoice
        label="compare with"
        value={known ? view.ghost : "own"}
        options={ghosts}
        onChoose={(ghost) => {
          setOwn(ghost === "own");
          if (ghost !== "own") set({ ghost });
        }}
      />
      {own && (
        <input
          aria-label="How much earlier, as 36h or 3d"
          placeholder="36h or 3d"
          className="field h-6 w-20"
          onChange={(event) => offsetSeconds(event.target.value) > 0 && set({ ghost: event.target.value })}
        />
      )}
      <InlineChoice
        label="scale"
        value={view.scale}
        options={SCALES}
        onChoose={(scale) => set({ scale: scale === "fit" ? "" : scale })}
      />
      <button
        type="button"
        aria-pressed={view.table}
        className={`h-6 px-1 ${view.table ? "marked" : "text-ink2 underline hover:text-ink"}`}
        onClick={() => set({ table: view.table ? "" : "1" })}
      >
        Table
      </button>
    </div>
  );
}
