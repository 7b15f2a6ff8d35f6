import { type KeyboardEvent, type MouseEvent, useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { percent, perSecond } from "../../components/format";
import { errorStep, loadStep } from "../../components/ramp";
import { colour, useTheme } from "../../components/theme";
import { useSize } from "../../components/useSize";
import { layout, type Order } from "./cellLayout";
import { useTrail } from "./trail";

type Device = Schemas["GridDevice"];
export type By = "load" | "peak" | "errors" | "state";

const SIZE = 15;
const GAP = 2;
export const STATE_WORDS: Record<string, string> = {
  up: "up",
  down: "down",
  unused: "not in use",
  silent: "no answer",
  unknown: "not polled yet",
};

/** What one cell says, in words. */
export function cellWords(device: Device, place: number, by: By): string {
  const value = device.values[place];
  const state = STATE_WORDS[device.states[place] ?? ""] ?? "";
  const figure =
    value == null || by === "state"
      ? ""
      : by === "errors"
        ? `, ${perSecond(value)} bad per million`
        : `, ${percent(value)} %`;
  return `${device.labels[place]} (${device.names[place]}): ${state}${figure}`;
}

function drawCell(
  context: CanvasRenderingContext2D,
  x: number,
  y: number,
  state: string,
  value: number | null,
  by: By,
) {
  const size = SIZE - GAP;
  context.save();
  context.translate(x, y);
  if (state === "silent") {
    context.beginPath();
    context.rect(0, 0, size, size);
    context.clip();
    context.strokeStyle = colour("critical");
    context.lineWidth = 1.4;
    for (let at = -size; at < size; at += 4) {
      context.beginPath();
      context.moveTo(at, size);
      context.lineTo(at + size, 0);
      context.stroke();
    }
  } else if (state === "up" && by === "state") {
    context.fillStyle = colour("ink2");
    context.fillRect(0, 0, size, size);
  } else if (state === "up" && value !== null) {
    context.fillStyle = colour(`load${by === "errors" ? errorStep(value) : loadStep(value)}`);
    context.fillRect(0, 0, size, size);
  } else {
    context.strokeStyle = colour(state === "down" ? "ink" : "rule");
    context.strokeRect(0.5, 0.5, size - 1, size - 1);
    if (state === "down") {
      context.beginPath();
      context.moveTo(3, size / 2);
      context.lineTo(size - 3, size / 2);
      context.stroke();
    }
  }
  context.restore();
}

type Props = { device: Device; by: By; order: Order };

/** A device's ports as cells on a canvas: hover or arrow keys for the value, click or Enter for the port. */
export function Cells({ device, by, order }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const { width } = useSize(box);
  const theme = useTheme();
  const [here, setHere] = useState<number | null>(null);
  const navigate = useNavigate();
  const trail = useTrail();
  const columns = Math.max(8, Math.floor(width / SIZE));
  const cells = layout(device, order, columns);
  const rows = Math.max(1, ...cells.map((cell) => cell.row + 1));
  const height = rows * SIZE;

  // biome-ignore lint/correctness/useExhaustiveDependencies: the cells follow from device, order and columns; a theme changes the colours
  useEffect(() => {
    const target = canvas.current;
    const context = target?.getContext("2d");
    if (!target || !context || !width) return;
    target.width = width * devicePixelRatio;
    target.height = height * devicePixelRatio;
    context.scale(devicePixelRatio, devicePixelRatio);
    for (const { place, column, row } of cells) {
      drawCell(context, column * SIZE, row * SIZE, device.states[place] ?? "", device.values[place] ?? null, by);
      if (place === here) {
        context.strokeStyle = colour("ink");
        context.lineWidth = 2;
        context.strokeRect(column * SIZE, row * SIZE, SIZE - GAP, SIZE - GAP);
      }
    }
  }, [device, by, order, columns, width, height, theme, here]);

  const under = (event: MouseEvent) => {
    const { left, top } = event.currentTarget.getBoundingClientRect();
    const [column, row] = [Math.floor((event.clientX - left) / SIZE), Math.floor((event.clientY - top) / SIZE)];
    return cells.find((cell) => cell.column === column && cell.row === row)?.place ?? null;
  };
  const open = (place: number | null) => {
    const port = place === null ? undefined : device.ids[place];
    if (port !== undefined) navigate(trail.portOf(device.id, port));
  };
  const press = (event: KeyboardEvent) => {
    const by_ = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    if (by_) {
      event.preventDefault();
      event.stopPropagation();
      setHere((before) => Math.min(device.ids.length - 1, Math.max(0, (before ?? (by_ > 0 ? -1 : 0)) + by_)));
    } else if (event.key === "Enter") open(here);
  };
  const words = here === null ? "" : cellWords(device, here, by);
  const at = cells.find((cell) => cell.place === here);
  return (
    <div ref={box} className="relative min-w-0">
      {/* biome-ignore lint/a11y/useSemanticElements: a drawing that takes arrow keys has no element of its own */}
      <div
        role="group"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: arrow keys go from cell to cell
        tabIndex={0}
        data-row
        aria-label={`${device.ids.length} ports of ${device.name}${words && `; ${words}`}`}
        className="cursor-pointer outline-offset-2"
        style={{ height }}
        onMouseMove={(event) => setHere(under(event))}
        onMouseLeave={() => setHere(null)}
        onClick={(event) => open(under(event))}
        onKeyDown={press}
        onBlur={() => setHere(null)}
      >
        <canvas ref={canvas} style={{ width, height }} />
      </div>
      {at && (
        <span
          className="figures pointer-events-none absolute z-10 bg-lamp px-2 py-0.5 text-tiny whitespace-nowrap text-(--onlamp)"
          style={{
            top: (at.row + 1) * SIZE + 2,
            ...(at.column * SIZE > width / 2 ? { right: width - (at.column + 1) * SIZE } : { left: at.column * SIZE }),
          }}
        >
          {words}
        </span>
      )}
    </div>
  );
}
