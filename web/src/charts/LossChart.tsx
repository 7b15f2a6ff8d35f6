import type uPlot from "uplot";
import type { PathCourse } from "../api/pathQueries";
import { percent } from "../components/format";
import { colour } from "../components/theme";
import { IntervalChart, type OverTime } from "./IntervalChart";

const share = ({ sent, lost }: PathCourse) =>
  sent.map((each, place) => (each ? (100 * (lost[place] ?? 0)) / each : null));
const written = (value: number) => `${percent(value)} %`;

/** Probes lost in each interval, per cent. */
export function LossChart(time: OverTime) {
  return (
    <IntervalChart
      {...time}
      label="Probes lost over time"
      height={80}
      values={share}
      least={1}
      write={written}
      isLabelled={false}
      draw={drawLoss}
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
