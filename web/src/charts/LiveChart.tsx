import { useMemo, useRef } from "react";
import type uPlot from "uplot";
import { rate, text } from "../components/format";
import { colour } from "../components/theme";
import { Plot } from "./Plot";
import { drawGaps, type Gap, SYNC, timeAxis, valueAxis } from "./plot";

export type Rates = { at: number[]; in_bps: (number | null)[]; out_bps: (number | null)[] };
type Props = {
  rates: Rates;
  gaps: Gap[];
  /** The top of the scale in bits per second, so that several charts can share it. */
  top: number;
  start: Date;
  end: Date;
  height: number;
  label: string;
};

/** In as an area and out as a line on a given scale, without anything to press. */
export function LiveChart({ rates, gaps, top, start, end, height, label }: Props) {
  const scale = useRef(top);
  scale.current = top;
  const latest = useRef(gaps);
  latest.current = gaps;
  const options = useMemo<Omit<uPlot.Options, "width" | "height">>(
    () => ({
      legend: { show: false },
      padding: [8, 10, 0, 0],
      cursor: { y: false, sync: { key: SYNC.key }, drag: { x: false, y: false }, points: { size: 5 } },
      scales: { x: { time: true, auto: false }, y: { range: () => [0, scale.current] } },
      axes: [
        timeAxis(true),
        valueAxis((_, splits) => splits.map((value) => (value ? text(rate(value)).replace(".0 ", " ") : "0")), 30),
      ],
      series: [
        {},
        { fill: () => `${colour("in")}d8`, stroke: () => colour("in"), width: 0.5, points: { show: false } },
        { stroke: () => colour("out"), width: 1.6, points: { show: false } },
      ],
      hooks: { drawAxes: [drawGaps(() => latest.current, true)] },
    }),
    [],
  );
  const data = useMemo<uPlot.AlignedData>(() => [rates.at, rates.in_bps, rates.out_bps], [rates]);
  return <Plot data={data} options={options} height={height} start={start} end={end} label={label} />;
}
