import { useCallback } from "react";
import type uPlot from "uplot";
import type { PathCourse } from "../api/pathQueries";
import { wait } from "../components/format";
import { colour } from "../components/theme";
import { IntervalChart, type OverTime } from "./IntervalChart";

const highest = ({ p95 }: PathCourse) => p95;

/** Round trips of each interval: from the 5th to the 95th percentile, the quartiles, and the median. */
export function DelayChart({ limit, ...time }: OverTime & { limit: number | null }) {
  const draw = useCallback(
    (plot: uPlot, course: PathCourse) => {
      drawBars(plot, course);
      if (limit !== null) drawLimit(plot, limit);
    },
    [limit],
  );
  return (
    <IntervalChart
      {...time}
      label={`Delay over time: 5th to 95th percentile, quartiles and median of each interval${limit === null ? "" : `; limit ${wait(limit)}`}`}
      height={220}
      values={highest}
      least={limit ?? 1}
      write={wait}
      isLabelled
      draw={draw}
    />
  );
}

function drawBars(plot: uPlot, { at, step_s, sent, lost, p5, p25, p50, p75, p95 }: PathCourse) {
  const { ctx, bbox } = plot;
  const x = (value: number) => plot.valToPos(value, "x", true);
  const y = (value: number) => plot.valToPos(value, "y", true);
  ctx.save();
  ctx.beginPath();
  ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.clip();
  for (const [place, begin] of at.entries()) {
    const [left, right] = [x(begin), x(begin + step_s)];
    if (right < bbox.left || left > bbox.left + bbox.width) continue;
    const width = Math.max(1, right - left);
    if (sent[place] && sent[place] === lost[place]) {
      ctx.fillStyle = colour("track");
      ctx.fillRect(left, bbox.top, width, bbox.height);
      continue;
    }
    const told = [p5, p25, p50, p75, p95].map((values) => values[place]);
    if (told.some((value) => value == null)) continue;
    const [low, lower, middle, upper, high] = told as [number, number, number, number, number];
    const centre = left + width / 2;
    const thin = Math.max(1, width * 0.22);
    const thick = Math.max(1, width * 0.6);
    ctx.fillStyle = `${colour("out")}66`;
    ctx.fillRect(centre - thin / 2, y(high), thin, Math.max(1, y(low) - y(high)));
    ctx.fillStyle = colour("out");
    ctx.fillRect(centre - thick / 2, y(upper), thick, Math.max(1, y(lower) - y(upper)));
    ctx.fillStyle = colour("ink");
    ctx.fillRect(left + width * 0.1, y(middle) - devicePixelRatio / 2, Math.max(1, width * 0.8), devicePixelRatio);
  }
  ctx.restore();
}

function drawLimit(plot: uPlot, limit: number) {
  const { ctx, bbox } = plot;
  const y = plot.valToPos(limit, "y", true);
  if (y < bbox.top) return;
  ctx.save();
  ctx.strokeStyle = ctx.fillStyle = colour("critical");
  ctx.lineWidth = devicePixelRatio;
  ctx.beginPath();
  ctx.moveTo(bbox.left, y);
  ctx.lineTo(bbox.left + bbox.width, y);
  ctx.stroke();
  ctx.font = `${11 * devicePixelRatio}px "Commissioner Variable", sans-serif`;
  ctx.textAlign = "left";
  ctx.textBaseline = "alphabetic";
  ctx.fillText(`first level ${wait(limit)}`, bbox.left + 4 * devicePixelRatio, y - 4 * devicePixelRatio);
  ctx.restore();
}
