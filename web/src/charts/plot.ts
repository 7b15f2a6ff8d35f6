import uPlot from "uplot";
import type { Schemas } from "../api/client";
import { clock, day, duration, month } from "../components/format";
import { colour } from "../components/theme";

export type Gap = Schemas["GapOut"];
export const SYNC = uPlot.sync("screen");
export const LEFT = 60;

const FONT = '11px "Commissioner Variable", sans-serif';

/** Time labels: the clock within a day, the day where it begins. */
function timeLabels(_: uPlot, splits: number[], __: number, ___: number, step: number): string[] {
  return splits.map((at) => {
    const time = new Date(at * 1000);
    if (step >= 86400) return step >= 6 * 86400 ? `${time.getDate()} ${month(time)}` : day(time);
    return time.getHours() === 0 && time.getMinutes() === 0 ? day(time) : clock(time);
  });
}

export const timeAxis = (labels: boolean): uPlot.Axis => ({
  stroke: () => colour("ink2"),
  font: FONT,
  size: labels ? 24 : 6,
  gap: 4,
  space: 74,
  grid: { show: false },
  ticks: { stroke: () => colour("rule"), size: labels ? 4 : 0 },
  values: labels ? timeLabels : () => [],
});

export const valueAxis = (values: (plot: uPlot, splits: number[]) => string[], space = 46): uPlot.Axis => ({
  stroke: () => colour("ink2"),
  font: FONT,
  size: LEFT,
  gap: 6,
  space,
  grid: { stroke: () => colour("faint"), width: 1 },
  ticks: { show: false },
  values,
});

const REASONS: Record<string, string> = {
  silent: "no answer",
  collector: "collector not running",
  dropped: "not kept",
};

/** Hatch gaps, and say why in them. */
export function drawGaps(gaps: () => Gap[], words: boolean): (plot: uPlot) => void {
  return (plot) => {
    const { ctx, bbox } = plot;
    const ratio = devicePixelRatio;
    ctx.save();
    ctx.beginPath();
    ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
    ctx.clip();
    for (const gap of gaps()) {
      const start = Date.parse(gap.start) / 1000;
      const end = gap.end ? Date.parse(gap.end) / 1000 : Date.now() / 1000;
      const left = Math.max(bbox.left, plot.valToPos(start, "x", true));
      const right = Math.min(bbox.left + bbox.width, plot.valToPos(end, "x", true));
      if (right - left < 1) continue;
      ctx.fillStyle = colour("track");
      ctx.fillRect(left, bbox.top, right - left, bbox.height);
      ctx.strokeStyle = colour("hatch");
      ctx.lineWidth = ratio;
      ctx.save();
      ctx.beginPath();
      ctx.rect(left, bbox.top, right - left, bbox.height);
      ctx.clip();
      ctx.beginPath();
      for (let at = left - bbox.height; at < right; at += 7 * ratio) {
        ctx.moveTo(at, bbox.top + bbox.height);
        ctx.lineTo(at + bbox.height, bbox.top);
      }
      ctx.stroke();
      ctx.restore();
      if (words && right - left > 110 * ratio) writeReason(plot, gap, left, right, end - start);
    }
    ctx.restore();
  };
}

function writeReason({ ctx, bbox }: uPlot, gap: Gap, left: number, right: number, seconds: number) {
  const ratio = devicePixelRatio;
  const middle = (left + right) / 2;
  const lines = [
    REASONS[gap.reason] ?? gap.reason,
    `${clock(new Date(gap.start))} – ${gap.end ? clock(new Date(gap.end)) : "now"}, ${duration(seconds)}`,
  ];
  const room = right - left - 12 * ratio;
  ctx.textAlign = "center";
  ctx.textBaseline = "alphabetic";
  lines.forEach((line, number) => {
    ctx.font = `${number ? 400 : 600} ${11.5 * ratio}px "Commissioner Variable", sans-serif`;
    const width = Math.min(room, ctx.measureText(line).width + 10 * ratio);
    const top = bbox.top + bbox.height * 0.38 + number * 17 * ratio;
    ctx.fillStyle = colour("track");
    ctx.fillRect(middle - width / 2, top - 12 * ratio, width, 16 * ratio);
    ctx.fillStyle = colour(number ? "ink2" : "ink");
    ctx.fillText(line, middle, top, room);
  });
}
