import { useMemo, useRef } from "react";
import type uPlot from "uplot";
import type { Schemas } from "../api/client";
import { reading } from "../components/format";
import { colour } from "../components/theme";
import { Plot } from "./Plot";
import { drawGaps, type Gap, SYNC, timeAxis, valueAxis } from "./plot";

type Props = {
  components: Schemas["ComponentSeries"][];
  gaps: Gap[];
  unit: string;
  start: Date;
  end: Date;
  onZoom: (start: Date, end: Date) => void;
  onBack: () => void;
};

const DASHES = [[], [4, 3], [1, 3], [8, 3]];

/** Components of one unit together; lines differ by their dashes. */
export function ComponentChart({ components, gaps, unit, start, end, onZoom, onBack }: Props) {
  const latest = useRef(gaps);
  latest.current = gaps;
  const names = components.map((part) => part.name).join(", ");
  // biome-ignore lint/correctness/useExhaustiveDependencies: the names stand for the components
  const options = useMemo<Omit<uPlot.Options, "width" | "height">>(
    () => ({
      legend: { show: false },
      padding: [6, 18, 0, 0],
      cursor: { y: false, sync: { key: SYNC.key }, drag: { x: true, y: false, setScale: false }, points: { size: 5 } },
      scales: {
        x: { time: true, auto: false },
        y: { range: (_, __, most) => [0, unit === "%" ? 100 : Math.max(1, most ?? 1) * 1.15] },
      },
      axes: [
        timeAxis(true),
        valueAxis((_, splits) => splits.map((value) => reading(value, unit, Number.isInteger(value) ? 0 : 1)), 26),
      ],
      hooks: { drawAxes: [drawGaps(() => latest.current, true)] },
      series: [
        {},
        ...components.map((part, number) => ({
          label: part.name,
          stroke: () => colour("ink"),
          width: 1.2,
          dash: DASHES[number % DASHES.length] ?? [],
          points: { show: false },
        })),
      ],
    }),
    [names, unit],
  );
  const data = useMemo<uPlot.AlignedData>(
    () => [components[0]?.at ?? [], ...components.map((part) => part.value)],
    [components],
  );
  return (
    <Plot
      data={data}
      options={options}
      height={112}
      label={names}
      start={start}
      end={end}
      onZoom={onZoom}
      onBack={onBack}
    />
  );
}
