import { useMemo, useRef } from "react";
import type uPlot from "uplot";
import type { PathCourse } from "../api/pathQueries";
import { percent } from "../components/format";
import { colour } from "../components/theme";
import { Plot } from "./Plot";
import { SYNC, timeAxis, valueAxis } from "./plot";

type Props = {
  course: PathCourse;
  start: Date;
  end: Date;
  onZoom: (start: Date, end: Date) => void;
  onBack: () => void;
};

const share = ({ sent, lost }: PathCourse) =>
  sent.map((each, place) => (each ? (100 * (lost[place] ?? 0)) / each : null));

/** Probes lost in each interval, per cent. */
export function LossChart({ course, start, end, onZoom, onBack }: Props) {
  const latest = useRef(course);
  latest.current = course;
  const options = useMemo<Omit<uPlot.Options, "width" | "height">>(
    () => ({
      legend: { show: false },
      padding: [8, 18, 0, 0],
      cursor: {
        y: false,
        sync: { key: SYNC.key },
        drag: { x: true, y: false, setScale: false },
        points: { show: false },
      },
      scales: { x: { time: true, auto: false }, y: { range: (_, __, most) => [0, Math.max(most ?? 0, 1) * 1.15] } },
      axes: [
        timeAxis(false),
        valueAxis((_, splits) => splits.map((value) => (value ? `${percent(value)} %` : "0")), 30),
      ],
      series: [{}, { label: "loss", points: { show: false }, width: 0, stroke: "transparent" }],
      hooks: { draw: [(plot) => drawLoss(plot, latest.current)] },
    }),
    [],
  );
  const data = useMemo<uPlot.AlignedData>(
    () => [course.at.map((at) => at + course.step_s / 2), share(course)],
    [course],
  );
  return (
    <Plot
      data={data}
      options={options}
      height={80}
      label="Probes lost over time"
      start={start}
      end={end}
      onZoom={onZoom}
      onBack={onBack}
    />
  );
}

function drawLoss(plot: uPlot, course: PathCourse) {
  const { ctx, bbox } = plot;
  ctx.save();
  ctx.fillStyle = colour("critical");
  const foot = plot.valToPos(0, "y", true);
  for (const [place, value] of share(course).entries()) {
    const begin = course.at[place] ?? 0;
    const left = Math.max(bbox.left, plot.valToPos(begin, "x", true));
    const right = Math.min(bbox.left + bbox.width, plot.valToPos(begin + course.step_s, "x", true));
    if (!value || right <= left) continue;
    const top = plot.valToPos(value, "y", true);
    ctx.fillRect(left, top, Math.max(devicePixelRatio, (right - left) * 0.9), foot - top);
  }
  ctx.restore();
}
