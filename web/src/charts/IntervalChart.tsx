import { useMemo, useRef } from "react";
import type uPlot from "uplot";
import type { PathCourse } from "../api/pathQueries";
import { Plot } from "./Plot";
import { SYNC, timeAxis, valueAxis } from "./plot";

export type OverTime = {
  course: PathCourse;
  start: Date;
  end: Date;
  onZoom: (start: Date, end: Date) => void;
  onBack: () => void;
};
type Props = OverTime & {
  label: string;
  height: number;
  /** The highest value of each interval. */
  values: (course: PathCourse) => (number | null)[];
  /** The top of the chart is at least at this value. */
  least: number;
  write: (value: number) => string;
  isLabelled: boolean;
  draw: (plot: uPlot, course: PathCourse) => void;
};

/** What each interval of a path came to, drawn by hand; time and values are the chart's. */
export function IntervalChart({ course, label, height, values, least, write, isLabelled, draw, ...time }: Props) {
  const latest = useRef(course);
  latest.current = course;
  const options = useMemo<Omit<uPlot.Options, "width" | "height">>(
    () => ({
      legend: { show: false },
      padding: [10, 18, 0, 0],
      cursor: {
        y: false,
        sync: { key: SYNC.key },
        drag: { x: true, y: false, setScale: false },
        points: { show: false },
      },
      scales: { x: { time: true, auto: false }, y: { range: (_, __, most) => [0, Math.max(most ?? 0, least) * 1.1] } },
      axes: [timeAxis(isLabelled), valueAxis((_, splits) => splits.map((value) => (value ? write(value) : "0")), 30)],
      series: [{}, { label, points: { show: false }, width: 0, stroke: "transparent" }],
      hooks: { draw: [(plot) => draw(plot, latest.current)] },
    }),
    [label, least, write, isLabelled, draw],
  );
  const data = useMemo<uPlot.AlignedData>(
    () => [course.at.map((at) => at + course.step_s / 2), values(course)],
    [course, values],
  );
  return <Plot data={data} options={options} height={height} label={label} {...time} />;
}
