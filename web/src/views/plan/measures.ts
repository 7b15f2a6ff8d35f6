import type { Schemas } from "../../api/client";
import { count, type Figure, percent, perSecond, rate, volume } from "../../components/format";

type Row = Schemas["TopRow"];
export type Measure = {
  name: string;
  words: string;
  title: string;
  lowest?: boolean;
  figure: (row: Row) => Figure | null;
};

const known = (value: number | null, figure: (value: number) => Figure) => (value === null ? null : figure(value));
const per = (value: number): Figure => ({ figure: percent(value), unit: "%" });

/** How many times, from octaves: a port that carries four times its usual is "× 4.0", one that carries a quarter "÷ 4.0". */
export function timesUsual(octaves: number): Figure {
  const times = 2 ** Math.abs(octaves);
  return { figure: `${octaves < 0 ? "÷" : "×"} ${times >= 100 ? times.toFixed(0) : times.toFixed(1)}`, unit: "" };
}

/** What ports can be put in order by. */
export const MEASURES: Measure[] = [
  { name: "load", words: "busiest", title: "Mean load", figure: (row) => known(row.load, per) },
  { name: "peak", words: "highest load", title: "Highest single reading", figure: (row) => known(row.peak, per) },
  { name: "volume", words: "highest volume", title: "Volume in and out", figure: (row) => volume(row.volume) },
  { name: "in", words: "most in", title: "Mean rate in", figure: (row) => known(row.in_bps, rate) },
  { name: "out", words: "most out", title: "Mean rate out", figure: (row) => known(row.out_bps, rate) },
  {
    name: "errors",
    words: "most errors",
    title: "Errors and discards",
    figure: (row) => count(row.errors + row.discards),
  },
  {
    name: "error_share",
    words: "worst error share",
    title: "Errors and discards per million packets",
    figure: (row) => known(row.error_share, (value) => ({ figure: perSecond(value), unit: "ppm" })),
  },
  {
    name: "change",
    words: "most changed",
    title: "Against the same time a week earlier",
    figure: (row) => timesUsual(row.value),
  },
  { name: "volume", words: "emptiest", title: "Volume in and out", lowest: true, figure: (row) => volume(row.volume) },
];

/** The name of a measure in the URL. */
export const keyOf = (measure: Measure) => (measure.lowest ? "empty" : measure.name);
