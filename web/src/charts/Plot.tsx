import "uplot/dist/uPlot.min.css";
import { useEffect, useRef } from "react";
import uPlot from "uplot";
import { useTheme } from "../components/theme";
import { useSize } from "../components/useSize";

type Props = {
  data: uPlot.AlignedData;
  /** Everything but the size; a new object draws the chart anew. */
  options: Omit<uPlot.Options, "width" | "height">;
  height: number;
  start: Date;
  end: Date;
  label: string;
  onZoom?: (start: Date, end: Date) => void;
  onBack?: () => void;
};

/** One chart on a canvas. Drag zooms, a double click or Escape goes back, the wheel zooms about the cursor. */
export function Plot({ data, options, height, start, end, label, onZoom, onBack }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const { width } = useSize(box);
  const theme = useTheme();
  const zoom = useRef(onZoom);
  zoom.current = onZoom;
  const latest = useRef({ data, start, end });
  latest.current = { data, start, end };

  // biome-ignore lint/correctness/useExhaustiveDependencies: colours are read when the chart is drawn, so a theme draws it anew
  useEffect(() => {
    const target = box.current;
    if (!target || !width) return;
    const made = new uPlot(
      {
        ...options,
        width,
        height,
        hooks: {
          ...options.hooks,
          setSelect: [
            (chart) => {
              const { left, width: across } = chart.select;
              if (across > 6 && zoom.current) {
                zoom.current(
                  new Date(chart.posToVal(left, "x") * 1000),
                  new Date(chart.posToVal(left + across, "x") * 1000),
                );
                chart.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
              }
            },
          ],
        },
      },
      latest.current.data,
      target,
    );
    plot.current = made;
    made.setScale("x", { min: latest.current.start.getTime() / 1000, max: latest.current.end.getTime() / 1000 });
    return () => {
      made.destroy();
      plot.current = null;
    };
  }, [options, width, height, theme]);

  useEffect(() => {
    const chart = plot.current;
    if (!chart) return;
    chart.setData(data, false);
    chart.setScale("x", { min: start.getTime() / 1000, max: end.getTime() / 1000 });
  }, [data, start, end]);

  useEffect(() => {
    const target = box.current;
    if (!target) return;
    const turn = (event: WheelEvent) => {
      const chart = plot.current;
      if (!chart || !zoom.current || !event.ctrlKey) return;
      event.preventDefault();
      const [from, to] = [latest.current.start.getTime(), latest.current.end.getTime()];
      const at = chart.posToVal(chart.cursor.left ?? 0, "x") * 1000;
      const factor = event.deltaY < 0 ? 0.7 : 1.4;
      zoom.current(new Date(at - (at - from) * factor), new Date(at + (to - at) * factor));
    };
    target.addEventListener("wheel", turn, { passive: false });
    return () => target.removeEventListener("wheel", turn);
  }, []);

  return <div ref={box} role="img" aria-label={label} style={{ height }} onDoubleClick={onBack} />;
}
