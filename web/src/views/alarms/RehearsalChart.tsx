import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useRef } from "react";
import type uPlot from "uplot";
import { client, got, type Schemas } from "../../api/client";
import { Plot } from "../../charts/Plot";
import { timeAxis, valueAxis } from "../../charts/plot";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { SEVERITIES, tokenOf } from "../../components/severities";
import { colour } from "../../components/theme";
import type { DraftLevel } from "./ruleDraft";

type Line = Schemas["LineOut"];
type Limit = { value: number; severity: number };
type Props = {
  body: string;
  revision?: number | undefined;
  days: number;
  subject: number;
  levels: DraftLevel[];
  unit: string;
};

/** What a rule compares at one subject, its limits, and when its alarms would have been active. */
export function RehearsalChart({ body, revision, days, subject, levels, unit }: Props) {
  const { data, error } = useQuery({
    queryKey: ["rehearsal", "line", body, revision, days, subject],
    queryFn: () =>
      got(client.POST("/api/v1/rules/rehearsal/line", { body: { ...JSON.parse(body), days, subject_id: subject } })),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60_000,
  });
  // With a band, limits are lines of their own that follow what is normal.
  const limits = (data?.band ? [] : levels)
    .filter(({ limit }) => limit.trim() !== "" && Number.isFinite(Number(limit)))
    .map(({ limit, severity }) => ({ value: Number(limit), severity }));
  if (!data) return <Problem error={error} />;
  return <Chart line={data} limits={limits} unit={unit} days={days} />;
}

function Chart({ line, limits, unit, days }: { line: Line; limits: Limit[]; unit: string; days: number }) {
  const latest = useRef({ line, limits });
  latest.current = { line, limits };
  const factor = unit.startsWith("Mb/s") ? 1e6 : 1;
  const key = JSON.stringify(limits);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the limits are read when it is drawn; a changed one draws it anew
  const options = useMemo<Omit<uPlot.Options, "width" | "height">>(
    () => ({
      legend: { show: false },
      padding: [8, 14, 0, 0],
      cursor: { y: false, points: { size: 5 }, drag: { x: false, y: false } },
      scales: {
        x: { time: true, auto: false },
        y: {
          range: (_, least, most) => {
            // A band may reach below zero where nothing can be; what was measured says how low the axis goes.
            const lowest = line.band ? Math.min(...line.value.map((value) => (value ?? 0) / factor)) : (least ?? 0);
            const values = [lowest, most ?? 0, ...limits.map(({ value }) => value)];
            const [low, high] = [Math.min(0, ...values), Math.max(...values)];
            return [low, unit === "%" ? Math.max(100, high) : (high || 1) * 1.12];
          },
        },
      },
      axes: [timeAxis(true), valueAxis((_, splits) => splits.map((value) => `${value} ${unit}`), 34)],
      hooks: { draw: [(plot: uPlot) => drawLimits(plot, latest.current.limits, latest.current.line, unit)] },
      series: [
        {},
        { label: line.label, stroke: () => colour("ink"), width: 1.1, points: { show: false }, spanGaps: false },
        ...(line.band ? bandSeries(line.band) : []),
      ],
    }),
    [key, unit, line.label, line.band?.severity.length],
  );
  const data = useMemo<uPlot.AlignedData>(() => {
    const scaled = (values: (number | null)[]) => values.map((value) => (value === null ? null : value / factor));
    const { band } = line;
    return [
      line.at,
      scaled(line.value),
      ...(band ? [scaled(band.usual), ...[...band.low, ...band.high].map(scaled)] : []),
    ];
  }, [line, factor]);
  const end = new Date();
  const start = new Date(end.getTime() - days * 86400_000);
  return (
    <>
      <h2 className="heading mt-3">
        {line.label}{" "}
        <span className="font-normal text-ink2">
          {line.alarms.length
            ? `${line.alarms.length} ${line.alarms.length === 1 ? "alarm" : "alarms"}, the last ${moment(new Date(1000 * (line.alarms[line.alarms.length - 1]?.raised_at ?? 0)))}`
            : "no alarm"}{" "}
          in {days === 1 ? "the last day" : `the last ${days} days`}
        </span>
      </h2>
      <Plot data={data} options={options} height={210} label={`${line.label}, ${unit}`} start={start} end={end} />
    </>
  );
}

/** What is usual as a dotted line, and where each level would have been left. */
function bandSeries(band: NonNullable<Line["band"]>): uPlot.Series[] {
  const plain = { points: { show: false }, spanGaps: false };
  const limits = [...band.severity, ...band.severity].map((severity) => ({
    ...plain,
    label: SEVERITIES[severity]?.word ?? "",
    stroke: () => colour(tokenOf(severity)),
    width: 1,
  }));
  return [{ ...plain, label: "usual", stroke: () => colour("ink2"), width: 1, dash: [2, 3] }, ...limits];
}

/** Limits as lines with their severity, and when alarms were active as bars at the foot. */
function drawLimits(plot: uPlot, limits: Limit[], line: Line, unit: string) {
  const { ctx, bbox } = plot;
  const ratio = devicePixelRatio;
  ctx.save();
  ctx.beginPath();
  ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.clip();
  ctx.font = `600 ${11 * ratio}px "Commissioner Variable", sans-serif`;
  ctx.textAlign = "left";
  ctx.textBaseline = "bottom";
  for (const { value, severity } of limits) {
    const y = plot.valToPos(value, "y", true);
    ctx.strokeStyle = ctx.fillStyle = colour(tokenOf(severity));
    ctx.lineWidth = 1.2 * ratio;
    ctx.beginPath();
    ctx.moveTo(bbox.left, y);
    ctx.lineTo(bbox.left + bbox.width, y);
    ctx.stroke();
    ctx.fillText(`${SEVERITIES[severity]?.word} ${value} ${unit}`, bbox.left + 6 * ratio, y - 2 * ratio);
  }
  for (const alarm of line.alarms) {
    const left = plot.valToPos(alarm.raised_at, "x", true);
    const right = plot.valToPos(alarm.cleared_at ?? Date.now() / 1000, "x", true);
    ctx.fillStyle = colour(tokenOf(alarm.severity));
    ctx.fillRect(left, bbox.top + bbox.height - 6 * ratio, Math.max(2 * ratio, right - left), 6 * ratio);
  }
  ctx.restore();
}
