import { useMemo, useRef } from "react";
import type uPlot from "uplot";
import type { Schemas } from "../api/client";
import { rate, text } from "../components/format";
import { colour } from "../components/theme";
import { Plot } from "./Plot";
import { drawGaps, SYNC, timeAxis, valueAxis } from "./plot";

type Lines = Schemas["LinesOut"];
type Way = "in" | "out";
type Values = (number | null)[];
type Props = {
  lines: Lines;
  way: Way;
  /** One on top of the other up to the total, or each from zero. */
  stacked: boolean;
  start: Date;
  end: Date;
  height: number;
  onZoom: (start: Date, end: Date) => void;
  onBack: () => void;
};

/** How strongly the place-th line is filled when stacked; beside it in the list stands the same tint. */
export const tint = (place: number, count: number) => 0.85 - (0.65 * place) / Math.max(1, count);
const DASHES = [[], [7, 3], [2, 3], [10, 3, 2, 3], [4, 2]];

/** Upper edges of the lines on top of each other, the largest at the bottom; the last edge is the total. */
function edges(lines: Lines, way: Way): Values[] {
  const sum: Values = lines.at.map(() => null);
  const found = lines.lines.map((line) => {
    line[`${way}_bps`].forEach((value, place) => {
      if (value !== null) sum[place] = (sum[place] ?? 0) + value;
    });
    return [...sum];
  });
  return [...found, lines.total[`${way}_bps`]];
}

/** Several interfaces in one direction, with what they add up to. */
export function LinesChart({ lines, way, stacked, start, end, height, onZoom, onBack }: Props) {
  const latest = useRef(lines);
  latest.current = lines;
  const names = lines.lines.map((line) => line.interface_id).join();
  const count = lines.lines.length;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the names stand for the lines
  const options = useMemo<Omit<uPlot.Options, "width" | "height">>(() => {
    const alpha = (share: number) =>
      colour(way) +
      Math.round(share * 255)
        .toString(16)
        .padStart(2, "0");
    const total = {
      label: "total",
      stroke: () => colour("ink"),
      width: 1.4,
      points: { show: false },
      ...(stacked ? { fill: () => colour("track") } : {}),
    };
    const each = lines.lines.map((line, place) => ({
      label: line.label,
      points: { show: false },
      ...(stacked
        ? { stroke: () => colour("paper"), width: 0.6, fill: () => alpha(tint(place, count)) }
        : { stroke: () => colour(way), width: 1.2, dash: DASHES[place % DASHES.length] ?? [] }),
    }));
    return {
      legend: { show: false },
      padding: [8, 18, 0, 0],
      cursor: { y: false, sync: { key: SYNC.key }, drag: { x: true, y: false, setScale: false }, points: { size: 5 } },
      scales: { x: { time: true, auto: false }, y: { range: (_, __, most) => [0, Math.max(most ?? 0, 1000) * 1.08] } },
      axes: [
        timeAxis(true),
        valueAxis((_, splits) => splits.map((value) => (value ? text(rate(value)).replace(".0 ", " ") : "0")), 30),
      ],
      // The highest edge is drawn first, so that the lower ones lie upon it.
      series: [{}, total, ...each.reverse()],
      hooks: { drawAxes: [drawGaps(() => latest.current.gaps, true)] },
    };
  }, [names, way, stacked]);
  const data = useMemo<uPlot.AlignedData>(() => {
    const values = stacked
      ? edges(lines, way)
      : [...lines.lines.map((line) => line[`${way}_bps`]), lines.total[`${way}_bps`]];
    return [lines.at, ...values.reverse()];
  }, [lines, way, stacked]);
  return (
    <Plot
      data={data}
      options={options}
      height={height}
      label={`${way === "in" ? "In" : "Out"} of ${lines.ports} ports together`}
      start={start}
      end={end}
      onZoom={onZoom}
      onBack={onBack}
    />
  );
}
