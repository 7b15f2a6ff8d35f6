import type { Schemas } from "../api/client";
import { bytesRate, type Figure, packets, percent, rate } from "../components/format";

type Series = Schemas["SeriesOut"];
export type Way = "in" | "out";
type Values = (number | null)[];

export const UNITS = ["bits", "bytes", "share", "packets"] as const;
export type Unit = (typeof UNITS)[number];

/** The speed in force at each step's end, in bits per second; 0 where it is not known. */
function speedsAt(series: Series, way: Way): number[] {
  let place = -1;
  const since = series.speeds.map((speed) => Date.parse(speed.since) / 1000);
  return series.at.map((at) => {
    while (place + 1 < since.length && (since[place + 1] ?? 0) <= at) place += 1;
    return series.speeds[Math.max(0, place)]?.[`${way}_bps`] ?? 0;
  });
}

/** A direction's rates in a unit. */
export function valuesIn(unit: Unit, series: Series, way: Way): Values {
  if (unit === "packets") return series[`${way}_pps`];
  const rates = series[`${way}_bps`];
  if (unit === "bits") return rates;
  if (unit === "bytes") return rates.map((value) => value && value / 8);
  const speeds = speedsAt(series, way);
  return rates.map((value, place) => {
    const speed = speeds[place];
    return value === null || !speed ? null : (100 * value) / speed;
  });
}

/** One value with its unit. */
export function figureIn(unit: Unit, value: number): Figure {
  if (unit === "packets") return packets(value);
  if (unit === "bytes") return bytesRate(value);
  return unit === "share" ? { figure: percent(value), unit: "%" } : rate(value);
}

/** The speed in a unit, to be drawn as a line; null where it makes no sense. */
export function speedIn(unit: Unit, bps: number): number | null {
  if (!bps || unit === "packets") return null;
  return unit === "share" ? 100 : unit === "bytes" ? bps / 8 : bps;
}
