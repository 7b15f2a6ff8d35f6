import { useMemo, useRef, useState } from "react";
import uPlot from "uplot";
import type { Schemas } from "../api/client";
import { clock, moment, perSecond, rate, text, volume } from "../components/format";
import { SEVERITIES, tokenOf } from "../components/severities";
import { colour } from "../components/theme";
import { Plot } from "./Plot";
import { drawGaps, LEFT, SYNC, timeAxis, valueAxis } from "./plot";
import { figureIn, speedIn, type Unit, valuesIn } from "./units";
import type { ChartView } from "./view";

type Series = Schemas["SeriesOut"];
/** A mark counts as under the cursor within this part of the chart's width. */
const NEAR = 200;
const MOST_TOLD = 3;
type Props = {
  series: Series;
  /** The same interface at another time, drawn as dotted lines behind. */
  ghost: Series | undefined;
  view: ChartView;
  start: Date;
  end: Date;
  onZoom: (start: Date, end: Date) => void;
  onBack: () => void;
  onPoint: (at: Date | null) => void;
};

/** The larger of the speeds in force at the end, in a unit. */
function highestSpeed(series: Series, unit: Unit): number {
  const speed = series.speeds.at(-1);
  return speedIn(unit, Math.max(speed?.in_bps ?? 0, speed?.out_bps ?? 0)) ?? 0;
}

/** The speed in force, drawn as a line with its name where it is not far above everything else. */
function drawSpeed(series: () => Series, unit: Unit): (plot: uPlot) => void {
  return (plot) => {
    const speed = series().speeds.at(-1);
    if (!speed) return;
    const { ctx, bbox } = plot;
    const ratio = devicePixelRatio;
    const lines =
      speed.in_bps === speed.out_bps || unit === "share"
        ? [[speed.in_bps, ""] as const]
        : [[speed.in_bps, "in"] as const, [speed.out_bps, "out"] as const];
    ctx.save();
    ctx.setLineDash([]);
    for (const [bps, direction] of lines) {
      const value = speedIn(unit, bps);
      if (value === null) continue;
      const y = plot.valToPos(value, "y", true);
      if (y < bbox.top + 2) continue;
      ctx.strokeStyle = colour("ink");
      ctx.lineWidth = ratio;
      ctx.beginPath();
      ctx.moveTo(bbox.left, y);
      ctx.lineTo(bbox.left + bbox.width, y);
      ctx.stroke();
      ctx.fillStyle = colour("ink");
      ctx.font = `${11 * ratio}px "Commissioner Variable", sans-serif`;
      ctx.textAlign = "left";
      ctx.textBaseline = "alphabetic";
      const sold = speed[direction === "out" ? "out_source" : "in_source"] === "override";
      const words = unit === "share" ? "the speed" : text(rate(bps)).replace(".0 ", " ");
      const name = [words, sold ? "sold" : "", direction].filter(Boolean).join(" ");
      ctx.fillText(name, bbox.left + 4 * ratio, y - 4 * ratio);
    }
    ctx.restore();
  };
}

/** What happened, on the time axis: alarms in the colour of their severity, everything else in ink; restarts are longer. */
function drawMarks(series: () => Series): (plot: uPlot) => void {
  return (plot) => {
    const { ctx, bbox } = plot;
    const ratio = devicePixelRatio;
    const stroke = (at: number, width: number, height: number, style: string) => {
      const x = plot.valToPos(at, "x", true);
      if (x < bbox.left || x > bbox.left + bbox.width) return;
      ctx.fillStyle = style;
      ctx.fillRect(x - (width / 2) * ratio, bbox.top + bbox.height, width * ratio, height * ratio);
    };
    ctx.save();
    for (const at of series().restarts) stroke(at, 2, 9, colour("ink"));
    for (const { at, severity } of series().marks)
      stroke(at, severity ? 5 : 3, severity ? 6 : 4, severity ? colour(tokenOf(severity)) : colour("ink2"));
    ctx.restore();
  };
}

/** What happened within a few pixels of a time. */
const marksNear = (series: Series, at: number, seconds: number) =>
  series.marks.filter((mark) => Math.abs(mark.at - at) <= seconds);

/** A ghost's values at the steps of the series it stands behind; its own steps may be longer. */
function behind(series: Series, ghost: Series, unit: Unit, way: "in" | "out", seconds: number): (number | null)[] {
  const values = valuesIn(unit, ghost, way);
  let place = 0;
  return series.at.map((at) => {
    while (place < ghost.at.length - 1 && (ghost.at[place] ?? 0) + seconds < at) place += 1;
    const end = (ghost.at[place] ?? 0) + seconds;
    return at <= end && at > end - ghost.step_s ? (values[place] ?? null) : null;
  });
}

/** In as an area, out as a line, on one time axis with errors and discards; gaps say why. */
export function RateChart({ series, ghost, view, start, end, onZoom, onBack, onPoint }: Props) {
  const [cursor, setCursor] = useState<{ index: number; left: number } | null>(null);
  const latest = useRef(series);
  latest.current = series;
  const tell = useRef(onPoint);
  tell.current = onPoint;
  const { unit, scale, ghostSeconds } = view;

  const options = useMemo<Omit<uPlot.Options, "width" | "height">>(() => {
    const current = () => latest.current;
    const isLog = scale === "log";
    const dotted = { width: 1, dash: [2, 3], points: { show: false } };
    return {
      legend: { show: false },
      padding: [8, 18, 0, 0],
      cursor: { y: false, sync: { key: SYNC.key }, drag: { x: true, y: false, setScale: false }, points: { size: 5 } },
      scales: {
        x: { time: true, auto: false },
        y: {
          ...(isLog ? { distr: 3, log: 10 } : {}),
          range: (_, least, most) => {
            const speed = highestSpeed(current(), unit);
            const top = Math.max(most ?? 0, unit === "share" ? 1 : unit === "packets" ? 10 : 1000) * 1.08;
            if (isLog) return [Math.max(least || 1, top / 1e6), Math.max(top, speed)];
            if (scale === "speed" && speed) return [0, speed * 1.08];
            // The speed belongs into the picture unless it would flatten everything else.
            return [0, speed && top > speed * 0.3 ? Math.max(top, speed * 1.08) : top];
          },
        },
      },
      axes: [
        timeAxis(true),
        valueAxis((_, splits) =>
          splits.map((value) =>
            value === 0 ? "0" : value == null ? "" : text(figureIn(unit, value)).replace(".0 ", " "),
          ),
        ),
      ],
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
        { label: "in, earlier", stroke: () => colour("ink"), ...dotted },
        { label: "out, earlier", stroke: () => colour("out"), ...dotted },
      ],
      hooks: {
        drawAxes: [drawGaps(() => current().gaps, true)],
        draw: [drawSpeed(current, unit), drawMarks(current)],
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
  }, [unit, scale]);
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
  const rates = useMemo<uPlot.AlignedData>(() => {
    // On a logarithmic scale there is no zero.
    const shown = (values: (number | null)[]) => (scale === "log" ? values.map((value) => value || null) : values);
    const earlier = (way: "in" | "out") =>
      ghost ? shown(behind(series, ghost, unit, way, ghostSeconds)) : series.at.map(() => null);
    const now = (way: "in" | "out") => shown(valuesIn(unit, series, way));
    return [series.at, now("in"), now("out"), earlier("in"), earlier("out")];
  }, [series, ghost, unit, scale, ghostSeconds]);
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
      {cursor && (
        <Reading
          series={series}
          unit={unit}
          index={cursor.index}
          left={cursor.left + LEFT}
          near={Math.max(series.step_s / 2, (end.getTime() - start.getTime()) / 1000 / NEAR)}
        />
      )}
      {failing ? (
        <>
          <Plot data={counts} options={trouble} height={54} label="Errors and discards" {...shared} />
          <p className="pl-[60px] text-tiny text-ink2">errors (dark) and discards (light) in each step</p>
        </>
      ) : (
        <p className="pl-[60px] text-tiny text-ink2">No errors and no discards in this time.</p>
      )}
    </div>
  );
}

function summary(series: Series): string {
  const figure = (value: number | null) => (value === null ? "not known" : text(rate(value)));
  return `mean in ${figure(series.inward.mean)}, mean out ${figure(series.outward.mean)}`;
}

type ReadingProps = {
  series: Series;
  unit: Unit;
  index: number;
  left: number;
  /** What happened within so many seconds is told as well. */
  near: number;
};

/** The value under the cursor, what was carried in its step, and what happened then. */
function Reading({ series, unit, index, left, near }: ReadingProps) {
  const at = series.at[index];
  if (at === undefined) return null;
  const value = (way: "in" | "out") => {
    const found = valuesIn(unit, series, way)[index];
    const bps = series[`${way}_bps`][index];
    if (found == null) return "–";
    return `${text(figureIn(unit, found))}${bps == null ? "" : `, ${text(volume((bps * series.step_s) / 8))}`}`;
  };
  const [from, to] = [new Date((at - series.step_s) * 1000), new Date(at * 1000)];
  const errors = series.errors[index] ?? 0;
  const happened = marksNear(series, at - series.step_s / 2, near);
  const room = happened.length ? 202 : 120;
  return (
    <div
      className="figures pointer-events-none absolute top-7 z-10 -translate-x-1/2 bg-lamp px-2.5 py-1 text-center text-tiny whitespace-nowrap text-(--onlamp)"
      style={{ left: `clamp(${room}px, ${left}px, calc(100% - ${room}px))` }}
    >
      <b className="font-semibold">
        {moment(from)} – {series.step_s >= 86400 ? moment(to) : clock(to)}
      </b>
      <br />
      in {value("in")} &ensp;out {value("out")}
      {errors > 0 && <> &ensp;{perSecond(errors / series.step_s)} errors/s</>}
      {happened.slice(0, MOST_TOLD).map((mark) => (
        <span key={`${mark.at} ${mark.words}`} className="block max-w-[380px] truncate">
          {clock(new Date(mark.at * 1000))} {mark.severity !== null && `${SEVERITIES[mark.severity]?.word}: `}
          {mark.words}
        </span>
      ))}
      {happened.length > MOST_TOLD && <span className="block">and {happened.length - MOST_TOLD} more, see below</span>}
    </div>
  );
}
