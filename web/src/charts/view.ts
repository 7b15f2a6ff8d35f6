import { useSearchParams } from "react-router";
import { UNITS, type Unit } from "./units";

export const SCALES = ["fit", "speed", "log"] as const;
export type Scale = (typeof SCALES)[number];

/** What can stand behind the chart as a ghost, with its words. */
export const GHOSTS = [
  ["", "none"],
  ["1d", "a day earlier"],
  ["7d", "a week earlier"],
  ["28d", "four weeks earlier"],
] as const;

export type ChartView = { unit: Unit; scale: Scale; ghost: string; ghostSeconds: number; table: boolean };

const OWN = /^(\d{1,4})(h|d)$/;

/** Seconds of an offset such as 36h or 3d; 0 for none. */
export function offsetSeconds(text: string): number {
  const found = OWN.exec(text);
  return found ? Number(found[1]) * (found[2] === "h" ? 3600 : 86400) : 0;
}

/** How a chart is drawn; it lives in the URL, so a link shows the same. */
export function useChartView(): ChartView {
  const [search] = useSearchParams();
  const unit = UNITS.find((each) => each === search.get("unit")) ?? "bits";
  const scale = SCALES.find((each) => each === search.get("scale")) ?? "fit";
  const ghost = search.get("ghost") ?? "";
  return { unit, scale, ghost, ghostSeconds: offsetSeconds(ghost), table: search.get("table") === "1" };
}
