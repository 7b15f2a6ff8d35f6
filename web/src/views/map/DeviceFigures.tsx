import { useQuery } from "@tanstack/react-query";
import { figuresQuery } from "../../api/topologyQueries";
import { useScreenTime } from "../../app/screenTime";
import { useSetSearch } from "../../app/useSetSearch";
import { useMapShow } from "./MapTools";

/** The figures of a device in one line, under the pointer. */
export function FigureWords({ device }: { device: number }) {
  const time = useScreenTime();
  const { data } = useQuery(figuresQuery([device], time.at));
  const figures = data?.find(({ device_id }) => device_id === device)?.figures ?? [];
  if (figures.length === 0) return null;
  return (
    <span className="block text-ink2">
      {figures
        .map(({ name, unit, value }) => `${name} ${value === null ? "–" : `${Math.round(value)} ${unit}`}`)
        .join(" · ")}
    </span>
  );
}

/** Pins the figures of a device beside its card, or takes them away. */
export function PinFigures({ device }: { device: number }) {
  const { pins } = useMapShow();
  const set = useSetSearch();
  const isPinned = pins.includes(device);
  const other = isPinned ? pins.filter((each) => each !== device) : [...pins, device];
  return (
    <button type="button" className="underline" aria-pressed={isPinned} onClick={() => set({ pins: other.join(",") })}>
      {isPinned ? "unpin its figures" : "pin its figures"}
    </button>
  );
}
