import { useMemo } from "react";
import type uPlot from "uplot";
import { rate, text } from "../components/format";
import { colour } from "../components/theme";
import { Plot } from "./Plot";
import { SYNC, timeAxis, valueAxis } from "./plot";

export type Layer = { name: string; token: string; values: (number | null)[] };
type Props = {
  at: number[];
  /** From the bottom upwards. */
  layers: Layer[];
  /** What the interface counted itself, drawn as a line over the layers. */
  counter: (number | null)[] | null;
  speed: number | null;
  /** What the layers are, if not traffic, and how its values are written. */
  of?: string;
  write?: (value: number) => string;
  /** The top of the chart is at least at this value. */
  least?: number;
  start: Date;
  end: Date;
  onZoom: (start: Date, end: Date) => void;
  onBack: () => void;
};

const bits = (value: number) => text(rate(value)).replace(".0 ", " ");

/** The colour of the place-th of the layers. */
export const layerToken = (place: number) => (place < 8 ? `layer${place}` : "rest");

/** Upper edges of layers on top of each other, the highest first; nothing where nothing is known. */
export function edgesOf(at: number[], layers: Layer[]): (number | null)[][] {
  const sum = at.map((): number | null => null);
  return layers
    .map(({ values }) => {
      for (const [place, value] of values.entries()) if (value !== null) sum[place] = (sum[place] ?? 0) + value;
      return [...sum];
    })
    .reverse();
}

/** What flows say, stacked, with what the interface counted as a line on top. */
export function TrafficChart({
  at,
  layers,
  counter,
  speed,
  of = "Traffic",
  write = bits,
  least = 1000,
  start,
  end,
  onZoom,
  onBack,
}: Props) {
  const names = layers.map((layer) => `${layer.name} ${layer.token}`).join();
  const hasCounter = counter !== null;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the names stand for the layers
  const options = useMemo<Omit<uPlot.Options, "width" | "height">>(
    () => ({
      legend: { show: false },
      padding: [10, 18, 0, 0],
      cursor: { y: false, sync: { key: SYNC.key }, drag: { x: true, y: false, setScale: false }, points: { size: 4 } },
      scales: { x: { time: true, auto: false }, y: { range: (_, __, most) => [0, Math.max(most ?? 0, least) * 1.08] } },
      axes: [timeAxis(true), valueAxis((_, splits) => splits.map((value) => (value ? write(value) : "0")), 30)],
      series: [
        {},
        ...[...layers].reverse().map(({ name, token }) => ({
          label: name,
          points: { show: false },
          stroke: () => colour("paper"),
          width: 0.5,
          fill: () => colour(token),
        })),
        ...(hasCounter
          ? [{ label: "interface counter", points: { show: false }, stroke: () => colour("out"), width: 1.6 }]
          : []),
      ],
      hooks: { draw: [(plot) => drawSpeed(plot, speed)] },
    }),
    [names, hasCounter, speed, write, least],
  );
  const data = useMemo<uPlot.AlignedData>(
    () => [at, ...edgesOf(at, layers), ...(counter ? [counter] : [])],
    [at, layers, counter],
  );
  return (
    <Plot
      data={data}
      options={options}
      height={260}
      label={`${of} over time: ${layers.map(({ name }) => name).join(", ")}${counter ? ", and the interface counter" : ""}`}
      start={start}
      end={end}
      onZoom={onZoom}
      onBack={onBack}
    />
  );
}

/** The speed as a line with its name, where it is not far above everything else. */
function drawSpeed(plot: uPlot, speed: number | null) {
  if (!speed) return;
  const { ctx, bbox } = plot;
  const y = plot.valToPos(speed, "y", true);
  if (y < bbox.top + 2) return;
  ctx.save();
  ctx.strokeStyle = ctx.fillStyle = colour("ink");
  ctx.lineWidth = devicePixelRatio;
  ctx.beginPath();
  ctx.moveTo(bbox.left, y);
  ctx.lineTo(bbox.left + bbox.width, y);
  ctx.stroke();
  ctx.font = `${11 * devicePixelRatio}px "Commissioner Variable", sans-serif`;
  ctx.textAlign = "left";
  ctx.textBaseline = "alphabetic";
  ctx.fillText(text(rate(speed)).replace(".0 ", " "), bbox.left + 4 * devicePixelRatio, y - 4 * devicePixelRatio);
  ctx.restore();
}
