import { useMemo, useRef, useState } from "react";
import uPlot from "uplot";
import type { Schemas } from "../api/client";
import { clock, moment, perSecond, rate, text } from "../parts/format";
import { colour } from "../parts/theme";
import { Plot } from "./Plot";
import { drawGaps, LEFT, rateLabels, SYNC, timeAxis, valueAxis } from "./plot";

type Series = Schemas["SeriesOut"];
type Props = {
  series: Series;
  start: Date;
  end: Date;
  onZoom: (start: Date, end: Date) => void;
  onBack: () => void;
  onPoint: (at: Date | null) => void;
};

/** The speed in force, drawn as a line with its name where it is not far above everything else. */
function drawSpeed(series: () => Series): (plot: uPlot) => void {
  return (plot) => {
    const speed = series().speeds.at(-1);
    if (!speed) return;
    const { ctx, bbox } = plot;
    const ratio = devicePixelRatio;
    const lines =
      speed.in_bps === speed.out_bps
        ? [[speed.in_bps, ""] as const]
        : [[speed.in_bps, "in"] as const, [speed.out_bps, "out"] as const];
    ctx.save();
    for (const [bps, direction] of lines) {
      const y = plot.valToPos(bps, "y", true);
      if (!bps || y < bbox.top + 2) continue;
      ctx.strokeStyle = colour("ink");
      ctx.lineWidth = ratio;
      ctx.beginPath();
      ctx.moveTo(bbox.left, y);
      ctx.lineTo(bbox.left + bbox.width, y);
      ctx.stroke();
      ctx.fillStyle = colour("ink");
      ctx.font = `${11 * ratio}px "Commissioner Variable", sans-serif`;
      ctx.textAlign = "left";
      const sold = speed[direction === "out" ? "out_source" : "in_source"] === "override";
      const name = [text(rate(bps)).replace(".0 ", " "), sold ? "sold" : "", direction].filter(Boolean).join(" ");
      ctx.fillText(name, bbox.left + 4 * ratio, y - 4 * ratio);
    }
    ctx.restore();
  };
}

/** Restarts as short ink strokes under the time axis. */
function drawRestarts(series: () => Series): (plot: uPlot) => void {
  return (plot) => {
    const { ctx, bbox } = plot;
    ctx.save();
    ctx.fillStyle = colour("ink");
    for (const at of series().restarts) {
      const x = plot.valToPos(at, "x", true);
      if (x >= bbox.left && x <= bbox.left + bbox.width)
        ctx.fillRect(x - devicePixelRatio, bbox.top + bbox.height, 2 * devicePixelRatio, 7 * devicePixelRatio);
    }
    ctx.restore();
  };
}

/** In as an area, out as a line, on one time axis with errors and discards; gaps say why. */
export function RateChart({ series, start, end, onZoom, onBack, onPoint }: Props) {
  const [cursor, setCursor] = useState<{ index: number; left: number } | null>(null);
  const latest = useRef(series);
  latest.current = series;
  const tell = useRef(onPoint);
  tell.current = onPoint;

  const options = useMemo<Omit<uPlot.Options, "width" | "height">>(() => {
    const current = () => latest.current;
    return {
      legend: { show: false },
      padding: [8, 18, 0, 0],
      cursor: { y: false, sync: { key: SYNC.key }, drag: { x: true, y: false, setScale: false }, points: { size: 5 } },
      scales: {
        x: { time: true, auto: false },
        y: {
          range: (_, __, most) => {
            const speed = Math.max(current().speeds.at(-1)?.in_bps ?? 0, current().speeds.at(-1)?.out_bps ?? 0);
            const top = Math.max(most ?? 0, 1000) * 1.08;
            // The speed belongs into the picture unless it would flatten everything else.
            return [0, speed && top > speed * 0.3 ? Math.max(top, speed * 1.08) : top];
          },
        },
      },
      axes: [timeAxis(true), valueAxis(rateLabels)],
      series: [
        {},
        {
          label: "in",
          fill: () => `${colour("in")}d8`,
          stroke: () => colour("in"),
          width: 0.5,
          points: { show: false },
        },
        { label: "out", stroke: () => colour("out"), width: 1.6, points: { show: false } },
      ],
      hooks: {
        drawAxes: [drawGaps(() => current().gaps, true)],
        draw: [drawSpeed(current), drawRestarts(current)],
        setCursor: [
          (plot) => {
            const index = plot.cursor.idx;
            const left = plot.cursor.left ?? -1;
            setCursor(index == null || left < 0 ? null : { index, left });
            tell.current(index == null || left < 0 ? null : new Date((current().at[index] ?? 0) * 1000));
          },
        ],
      },
    };
  }, []);
  const trouble = useMemo<Omit<uPlot.Options, "width" | "height">>(
    () => ({
      legend: { show: false },
      padding: [4, 18, 0, 0],
      cursor: { y: false, sync: { key: SYNC.key }, drag: { x: true, y: false, setScale: false } },
      scales: { x: { time: true, auto: false }, y: { range: (_, __, most) => [0, Math.max(most ?? 0, 1)] } },
      axes: [timeAxis(false), valueAxis((_, splits) => splits.map(String), 22)],
      series: [
        {},
        {
          label: "errors",
          stroke: () => colour("ink"),
          width: 1,
          fill: () => colour("ink"),
          paths: uPlot.paths.bars?.({ size: [1, 3] }),
          points: { show: false },
        },
        {
          label: "discards",
          stroke: () => colour("ink3"),
          width: 1,
          fill: () => colour("ink3"),
          paths: uPlot.paths.bars?.({ size: [1, 3] }),
          points: { show: false },
        },
      ],
      hooks: { drawAxes: [drawGaps(() => latest.current.gaps, false)] },
    }),
    [],
  );
  const rates = useMemo<uPlot.AlignedData>(() => [series.at, series.in_bps, series.out_bps], [series]);
  const counts = useMemo<uPlot.AlignedData>(
    () => [series.at, series.errors.map((value) => value || null), series.discards.map((value) => value || null)],
    [series],
  );
  const failing = series.errors.some(Boolean) || series.discards.some(Boolean);
  const shared = { start, end, onZoom, onBack };
  return (
    <div className="relative">
      <Plot
        data={rates}
        options={options}
        height={failing ? 268 : 300}
        label={`Bandwidth in and out, ${summary(series)}`}
        {...shared}
      />
      {cursor && <Reading series={series} index={cursor.index} left={cursor.left + LEFT} />}
      {failing ? (
        <>
          <Plot data={counts} options={trouble} height={54} label="Errors and discards" {...shared} />
          <p className="pl-[60px] text-[10.5px] text-ink2">errors (dark) and discards (light) in each step</p>
        </>
      ) : (
        <p className="pl-[60px] text-[11px] text-ink2">No errors and no discards in this time.</p>
      )}
    </div>
  );
}

function summary(series: Series): string {
  const figure = (value: number | null) => (value === null ? "not known" : text(rate(value)));
  return `mean in ${figure(series.inward.mean)}, mean out ${figure(series.outward.mean)}`;
}

/** The value under the cursor. */
function Reading({ series, index, left }: { series: Series; index: number; left: number }) {
  const at = series.at[index];
  if (at === undefined) return null;
  const value = (list: (number | null)[]) => {
    const found = list[index];
    return found == null ? "–" : text(rate(found));
  };
  const [from, to] = [new Date((at - series.step_s) * 1000), new Date(at * 1000)];
  const errors = series.errors[index] ?? 0;
  return (
    <div
      className="figures pointer-events-none absolute top-7 z-10 -translate-x-1/2 bg-lamp px-2.5 py-1 text-center text-[11.5px] whitespace-nowrap text-(--onlamp)"
      style={{ left: `clamp(90px, ${left}px, calc(100% - 90px))` }}
    >
      <b className="font-semibold">
        {moment(from)} – {clock(to)}
      </b>
      <br />
      in {value(series.in_bps)} &ensp;out {value(series.out_bps)}
      {errors > 0 && <> &ensp;{perSecond(errors / series.step_s)} errors/s</>}
    </div>
  );
}
